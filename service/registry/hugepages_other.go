//go:build !linux

package registry

// adviseHuge does nothing here.
func adviseHuge() error { return nil }
