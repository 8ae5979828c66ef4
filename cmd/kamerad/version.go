package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"runtime"
	"runtime/debug"

	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/wire"
)

// build says which program this is. All but the sub-protocols comes from what Go puts into a binary.
type build struct {
	Version   string   `json:"version"` // of the module; empty for a build from a checkout
	Commit    string   `json:"commit"`  // empty when the build knows none
	Changed   bool     `json:"changed"` // the checkout was not as that commit has it
	Time      string   `json:"time"`    // of the commit, RFC 3339
	Go        string   `json:"go"`
	Platform  string   `json:"platform"`
	Protocols []string `json:"protocols"`
}

// versionCommand is `kamerad version`.
func versionCommand() *cli.Command {
	return &cli.Command{
		Name:  "version",
		Usage: "say which build this is, and which protocols it speaks",
		Flags: []cli.Flag{terminal.JSONFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			if _, err := terminal.Words(c, "", 0, 0); err != nil {
				return err
			}
			info, _ := debug.ReadBuildInfo()
			b := buildOf(info)
			if c.Bool("json") {
				return json.NewEncoder(os.Stdout).Encode(b)
			}
			fmt.Println(b)
			return nil
		},
	}
}

// buildOf reads what Go put into the binary; info is nil when that is nothing.
func buildOf(info *debug.BuildInfo) build {
	b := build{
		Go:        runtime.Version(),
		Platform:  runtime.GOOS + "/" + runtime.GOARCH,
		Protocols: []string{wire.Binary, wire.Protocol},
	}
	if info == nil {
		return b
	}
	if info.Main.Version != "(devel)" {
		b.Version = info.Main.Version
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Commit = s.Value
		case "vcs.modified":
			b.Changed = s.Value == "true"
		case "vcs.time":
			b.Time = s.Value
		}
	}
	return b
}

// String returns the build in one line.
func (b build) String() string {
	out := "kamerad"
	if b.Version != "" {
		out += " " + b.Version
	}
	if b.Commit != "" {
		out += fmt.Sprintf(" from commit %.12s", b.Commit)
		if b.Changed {
			out += " and changes"
		}
		out += " of " + b.Time
	}
	return fmt.Sprintf("%s, %s for %s; speaks %s and %s", out, b.Go, b.Platform, b.Protocols[0], b.Protocols[1])
}
