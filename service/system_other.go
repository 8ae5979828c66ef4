//go:build !linux

package service

// giveWay does nothing here: trials run beside sessions with the same right.
func giveWay(int) {}

// adviseHuge does nothing here.
func adviseHuge() error { return nil }
