// Command bench measures how fast Kamerad is, each figure beside a floor or a plain alternative that is measured in the
// same run. `./run bench` builds and runs it; docs/performance.md says how each figure is measured.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strconv"
	"time"
)

func main() {
	if len(os.Args) > 2 && os.Args[1] == "part" {
		if err := part(os.Args[2], os.Args[3:]); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(2)
		}
		return
	}
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(2)
	}
}

// part is what runs in a process of its own, so that it is measured alone.
func part(name string, args []string) error {
	number := func(i int) int {
		n, _ := strconv.Atoi(args[i])
		return n
	}
	switch name {
	case "bytes":
		b, err := bytesOf(float64(number(0)))
		fmt.Printf("%+v\n", b)
		return err
	case "kamerad":
		return serveKamerad(population(number(0)), args[1] == "input", number(2))
	case "lean":
		return serveKamerad(lean, false, 0)
	case "echo":
		return serveEcho(number(0))
	case "players":
		return players(
			args[0], args[1], int64(number(2)), number(3), number(4), time.Duration(number(5))*time.Second,
			time.Duration(number(6))*time.Second,
		)
	case "floor":
		return serveFloor(number(0), number(1), args[2] == "bare")
	case "sink":
		return sink(args[0], int64(number(1)), number(2), args[3] == "input", number(4))
	}
	return fmt.Errorf("there is no part %s", name)
}

// child is a part that runs.
type child struct {
	cmd  *exec.Cmd
	in   io.WriteCloser
	out  *bufio.Scanner
	Addr string `json:"address"`
	ID   int64  `json:"session"`
}

// begin starts a part of the measurement as a process of its own, so that its time is measured by itself.
func begin(name string, args ...string) (*child, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	c := &child{cmd: exec.Command(self, append([]string{"part", name}, args...)...)}
	c.cmd.Stderr = os.Stderr
	c.in, err = c.cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := c.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	c.out = bufio.NewScanner(out)
	c.out.Buffer(nil, 64<<20)
	if err := c.cmd.Start(); err != nil {
		return nil, err
	}
	if !c.out.Scan() {
		c.end()
		return nil, fmt.Errorf("%s ended at once", name)
	}
	return c, json.Unmarshal(c.out.Bytes(), c)
}

// ask returns what the part has used until now.
func (c *child) ask() (u usage, err error) {
	if _, err = io.WriteString(c.in, "\n"); err != nil {
		return u, err
	}
	if !c.out.Scan() {
		return u, fmt.Errorf("%s has ended", c.cmd.Args[2])
	}
	return u, json.Unmarshal(c.out.Bytes(), &u)
}

// end ends the process, and waits for it.
func (c *child) end() {
	c.in.Close()
	done := make(chan struct{})
	go func() { _ = c.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		_ = c.cmd.Process.Kill()
		<-done
	}
}
