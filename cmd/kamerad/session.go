package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// sessionCommand is `kamerad session` with what stands below it.
//
//revive:disable-next-line:function-length It is one table.
func sessionCommand() *cli.Command {
	flags := []cli.Flag{terminal.ServiceFlag(), terminal.JSONFlag()}
	return &cli.Command{
		Name: "session", Usage: "open, list, show and close sessions",
		Commands: []*cli.Command{
			{
				Name:      "open",
				Usage:     "open a session of a published contract",
				ArgsUsage: "CONTRACT",
				Action:    openSession,
				Flags: append(flags,
					&cli.IntFlag{Name: "version", Usage: "which `VERSION`; the newest if not given"},
					&cli.StringSliceFlag{
						Name:  "set",
						Usage: "`NAME=VALUE` of a setting of the contract, or NAME=@FILE with JSON; may be repeated",
					},
					&cli.BoolFlag{Name: "paused", Usage: "no ticks but by `kamerad session step`"},
					&cli.Uint64Flag{
						Name: "seed",
						Usage: "where its dice come from, a `NUMBER`; what clients do is noted " +
							"for `kamerad drill from`",
					},
					&cli.StringFlag{
						Name:  "world",
						Usage: "the `NAME` under which what is kept of shared kinds goes from session to session",
					},
					&cli.StringFlag{
						Name:  "key-file",
						Usage: "a `FILE` with 64 hexadecimal digits that make the numbering of entities repeatable",
					}),
			},
			{
				Name:   "list",
				Usage:  "list the open sessions, then the newest closed ones",
				Flags:  flags,
				Action: listSessions,
			},
			{
				Name:      "show",
				Usage:     "show a session, its clients and its last decisions",
				ArgsUsage: "SESSION",
				Flags: append(flags,
					&cli.IntFlag{Name: "decisions", Usage: "how many `N` of the last decisions", Value: 10}),
				Action: showSession,
			},
			{Name: "close", Usage: "end a session", ArgsUsage: "SESSION", Flags: append(flags,
				&cli.StringFlag{
					Name:  "reason",
					Usage: "what its clients are told",
					Value: "closed by hand",
				}), Action: closeSession},
			{Name: "pause", Usage: "stop a session's clock", ArgsUsage: "SESSION", Flags: append(flags,
				&cli.BoolFlag{Name: "off", Usage: "let it run again"}), Action: pauseSession},
			{
				Name:      "link",
				Usage:     "show or change what the link of a test client is like",
				ArgsUsage: "SESSION CLIENT",
				Flags: append(flags,
					&cli.DurationFlag{Name: "delay", Usage: "of each message, a `TIME` such as 120ms"},
					&cli.DurationFlag{Name: "jitter", Usage: "up to so much more: a `TIME`"},
					&cli.StringFlag{Name: "loss", Usage: "how much is lost and sent again: `PERCENT` such as 5%"},
					&cli.IntFlag{Name: "bandwidth", Usage: "`BYTES` a second; 0 for any"},
					&cli.BoolFlag{Name: "cut", Usage: "nothing passes until the link is set again"},
					&cli.BoolFlag{Name: "good", Usage: "a perfect link again"}),
				Action: linkOf,
			},
			{
				Name:      "step",
				Usage:     "run ticks of a paused session",
				ArgsUsage: "SESSION [TICKS]",
				Flags:     flags,
				Action:    stepSession,
			},
		},
	}
}

// maxSettingFile is how many bytes a file with the value of a setting may have.
const maxSettingFile = 1 << 20

// settingValue returns the value of a setting as it stands on the command line: JSON, a word, or @FILE for the JSON
// that a file holds.
func settingValue(name, value string) (json.RawMessage, error) {
	file, isFile := strings.CutPrefix(value, "@")
	if !isFile {
		return contract.RawWord(value), nil
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("read the setting `%s`: %w", name, err)
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, maxSettingFile+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("read the setting `%s`: %w", name, err)
	case len(raw) > maxSettingFile:
		return nil, fmt.Errorf("read the setting `%s`: %s has more than %d bytes", name, file, maxSettingFile)
	case !json.Valid(raw):
		return nil, fmt.Errorf("read the setting `%s`: what %s holds is no JSON", name, file)
	}
	return raw, nil
}

// openSession is `kamerad session open`.
//
// The key is read from a file, since a process's arguments can be seen by others.
func openSession(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "CONTRACT", 1, 1)
	if err != nil {
		return err
	}
	o := api.OpenSession{
		Contract: args[0],
		Version:  c.Int("version"),
		Paused:   c.Bool("paused"),
		Seed:     c.Uint64("seed"),
		World:    c.String("world"),
	}
	for _, set := range c.StringSlice("set") {
		name, value, ok := strings.Cut(set, "=")
		if !ok {
			return fmt.Errorf("open a session: --set %s gives no value; write --set NAME=VALUE", set)
		}
		if o.Settings == nil {
			o.Settings = map[string]json.RawMessage{}
		}
		raw, err := settingValue(name, value)
		if err != nil {
			return err
		}
		o.Settings[name] = raw
	}
	if file := c.String("key-file"); file != "" {
		raw, err := os.ReadFile(file)
		if err != nil {
			return fmt.Errorf("read the key: %w", err)
		}
		o.Key = strings.TrimSpace(string(raw))
	}
	s, err := terminal.Service(c).Open(ctx, o)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, s)
	}
	fmt.Printf("%s %d of %s version %d\n", terminal.Good.Sprint("✓ opened session"), s.ID, s.Contract, s.Version)
	fmt.Printf(
		"Join it: kamerad join %d --as Ana     Watch it: kamerad watch %d     Console: %s/sessions/%d\n", s.ID, s.ID,
		c.String("service"), s.ID,
	)
	return nil
}

// listSessions is `kamerad session list`.
func listSessions(ctx context.Context, c *cli.Command) error {
	list, err := terminal.Service(c).Sessions(ctx)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, list)
	}
	if len(list) == 0 {
		fmt.Println("No session was opened yet: kamerad session open CONTRACT")
		return nil
	}
	t := terminal.NewTable("Session", "Contract", "State", "Tick", "Clients", "Opened")
	for _, s := range list {
		t.AppendRow(
			[]any{
				s.ID, fmt.Sprintf("%s %d", s.Contract, s.Version),
				state(s), s.Tick, strings.Join(terminal.ClientNames(s.Clients), ", "),
				terminal.FormatTime(s.OpenedAt),
			},
		)
	}
	terminal.PrintTable(c.Root().Writer, t)
	return nil
}

// state describes how a session is: open, paused, slow, failed or closed.
//
// A slow or failing session is open all the same, and says so behind the word.
func state(s api.Session) string {
	switch {
	case s.Open && s.Paused:
		return terminal.Warn.Sprint("paused")
	case s.Open:
		return terminal.Good.Sprint("open") + terminal.Warn.Sprint(slow(s.Slow)+failed(s.Faults))
	}
	return terminal.Muted.Sprintf("closed: %s", terminal.Shown(s.CloseReason))
}

// slow describes how a session's ticks take too long.
//
// It is empty for a session whose ticks fit their time.
func slow(s *api.Slowness) string {
	if s == nil {
		return ""
	}
	out := fmt.Sprintf(" ! slow: ticks of up to %.0f ms", s.Ms)
	if s.Of != "" {
		out += ", most of all " + s.Of
	}
	return out
}

// failed describes how often something failed inside.
func failed(f *api.Faults) string {
	if f == nil {
		return ""
	}
	return " ! failed inside " + plural(int(f.Count), "time")
}

// showFaults prints the last things that failed inside.
//
// Faults of one cause are one line, with how often they came.
func showFaults(c *cli.Command, f *api.Faults) {
	if f == nil {
		return
	}
	fmt.Println()
	t := terminal.NewTable("Last tick", "Times", "Failed inside", "About", "Why")
	for _, x := range f.Last {
		t.AppendRow(
			[]any{
				x.Tick, x.Times, fmt.Sprintf("%s, line %d of %s", x.In, x.Line, x.File), terminal.Shown(x.About),
				terminal.Bad.Sprint(terminal.Shown(x.Reason)),
			},
		)
	}
	terminal.PrintTable(c.Root().Writer, t)
}

// oneSession reads the session that a command is for.
//
// The rest of its words, at most most − 1 of them, are returned as they are.
func oneSession(c *cli.Command, usage string, most int) (api.Client, int64, []string, error) {
	args, err := terminal.Words(c, usage, 1, most)
	if err != nil {
		return api.Client{}, 0, nil, err
	}
	id, err := terminal.SessionArg(args[0])
	return terminal.Service(c), id, args[1:], err
}

// showSession is `kamerad session show`.
func showSession(ctx context.Context, c *cli.Command) error {
	admin, id, _, err := oneSession(c, "SESSION", 1)
	if err != nil {
		return err
	}
	s, err := admin.Session(ctx, id)
	if err != nil {
		return err
	}
	decisions, err := admin.Decisions(ctx, id, max(1, c.Int("decisions")))
	if err != nil {
		return err
	}
	acts, err := admin.Acts(ctx, id)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, map[string]any{"session": s, "decisions": decisions, "acts": acts})
	}
	fmt.Printf(
		"%s of %s version %d: %s, tick %d, opened %s\n", terminal.Bold.Sprintf("session %d", s.ID),
		s.Contract, s.Version,
		state(s), s.Tick, terminal.FormatTime(s.OpenedAt),
	)
	if s.Result != nil {
		fmt.Printf("it came to %s\n", terminal.Shown(string(s.Result)))
	}
	if s.Open {
		fmt.Printf(
			"its entities and what clients are told of them take %s of the %d MB of memory that they may\n",
			megabytes(s.Memory), s.MemoryMost>>20,
		)
	}
	if len(s.Clients) > 0 {
		fmt.Println()
		t := terminal.NewTable("Client", "Name", "Role")
		for _, x := range s.Clients {
			t.AppendRow([]any{terminal.Mark(x.Number), x.Name, x.Role})
		}
		terminal.PrintTable(c.Root().Writer, t)
	}
	showFaults(c, s.Faults)
	showActs(c, acts)
	if len(decisions) > 0 {
		fmt.Println()
		t := terminal.NewTable("Tick", "Client", "Seq", "Request", "Decision")
		terminal.AlignRight(t, 3)
		for _, d := range decisions {
			verdict := terminal.Verdict(d.Outcome, d.Stage, d.Reason, d.Reply)
			t.AppendRow([]any{d.Tick, d.Client.Name, d.Seq, asked(d), verdict})
		}
		terminal.PrintTable(c.Root().Writer, t)
	}
	return nil
}

// shownActs is how many acts of operators are shown.
const shownActs = 10

// showActs prints what operators have done to a session last, newest first.
func showActs(c *cli.Command, acts []api.Act) {
	if len(acts) == 0 {
		return
	}
	fmt.Println()
	t := terminal.NewTable("When", "Operator", "Did")
	for _, a := range acts[:min(len(acts), shownActs)] {
		t.AppendRow([]any{terminal.FormatTime(a.At), terminal.Shown(a.Operator), terminal.Shown(a.Act)})
	}
	terminal.PrintTable(c.Root().Writer, t)
}

// asked writes a request as it was asked.
//
// Arguments that cannot be read are left out. All of it was sent by a client, so nothing is printed
// without terminal.Shown.
func asked(d api.Decision) string {
	var args []json.RawMessage
	if json.Unmarshal(d.Args, &args) != nil {
		return terminal.Shown(d.Request)
	}
	out := make([]string, len(args))
	for i, a := range args {
		out[i] = terminal.Unquoted(a)
	}
	return terminal.Shown(d.Request + "(" + strings.Join(out, ", ") + ")")
}

// closeSession is `kamerad session close`.
func closeSession(ctx context.Context, c *cli.Command) error {
	admin, id, _, err := oneSession(c, "SESSION", 1)
	if err != nil {
		return err
	}
	s, err := admin.Close(ctx, id, c.String("reason"))
	return tellState(c, s, err)
}

// pauseSession is `kamerad session pause`, and with another flag its end.
func pauseSession(ctx context.Context, c *cli.Command) error {
	admin, id, _, err := oneSession(c, "SESSION", 1)
	if err != nil {
		return err
	}
	s, err := admin.Pause(ctx, id, !c.Bool("off"))
	return tellState(c, s, err)
}

// stepSession is `kamerad session step`.
//
// The service bounds the number of ticks.
func stepSession(ctx context.Context, c *cli.Command) error {
	admin, id, rest, err := oneSession(c, "SESSION [TICKS]", 2)
	if err != nil {
		return err
	}
	ticks := 1
	if len(rest) == 1 {
		if _, err := fmt.Sscan(rest[0], &ticks); err != nil {
			return fmt.Errorf("%q is no number of ticks", rest[0])
		}
	}
	s, err := admin.Step(ctx, id, ticks)
	return tellState(c, s, err)
}

// tellState prints how a session is after something was done to it.
func tellState(c *cli.Command, s api.Session, err error) error {
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, s)
	}
	fmt.Printf("session %d is %s, at tick %d\n", s.ID, state(s), s.Tick)
	return nil
}

// linkOf shows what a test client's link is like, once it was changed if anything was said of it.
//
// Whatever is not said of a link that is changed becomes perfect: a link is set as a whole.
func linkOf(ctx context.Context, c *cli.Command) error {
	admin, id, rest, err := oneSession(c, "SESSION CLIENT", 2)
	if err != nil {
		return err
	}
	if len(rest) == 0 {
		return fmt.Errorf("link: which test client? Write kamerad session link %d CLIENT, with its name or number", id)
	}
	s, err := admin.Session(ctx, id)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(s.Clients, func(x wire.Client) bool {
		return x.Name == rest[0] ||
			fmt.Sprint(x.Number) == rest[0]
	})
	if at < 0 {
		return fmt.Errorf(
			"link: session %d has no client %s, only %s", id, rest[0],
			strings.Join(terminal.ClientNames(s.Clients), ", "),
		)
	}
	who := s.Clients[at]
	var l api.Link
	said := c.Bool("good") || c.Bool("cut")
	for _, name := range []string{"delay", "jitter", "loss", "bandwidth"} {
		said = said || c.IsSet(name)
	}
	if !said {
		l, err = admin.LinkOf(ctx, id, who.Number)
	} else {
		if !c.Bool("good") {
			l.DelayMs, l.JitterMs = float64(c.Duration("delay"))/1e6, float64(c.Duration("jitter"))/1e6
			l.Bandwidth, l.Cut = c.Int("bandwidth"), c.Bool("cut")
			l.Loss, err = percent(c.String("loss"))
			if err != nil {
				return err
			}
		}
		l, err = admin.SetLink(ctx, id, who.Number, l)
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, l)
	}
	bandwidth := "any bandwidth"
	if l.Bandwidth > 0 {
		bandwidth = fmt.Sprintf("%d bytes a second", l.Bandwidth)
	}
	fmt.Printf(
		"%s: %g ms delay, %g ms jitter, %g%% loss, %s%s\n", who.Name, l.DelayMs, l.JitterMs, 100*l.Loss, bandwidth,
		map[bool]string{true: terminal.Warn.Sprint(", cut"), false: ""}[l.Cut],
	)
	return nil
}

// percent reads how much is lost: 5% or 0.05.
func percent(s string) (float64, error) {
	if s == "" {
		return 0, nil
	}
	number, part := strings.CutSuffix(s, "%")
	n, err := strconv.ParseFloat(number, 64)
	if err != nil {
		return 0, fmt.Errorf("link: --loss %s is no number; write 5%% or 0.05", s)
	}
	if part {
		n /= 100
	}
	return n, nil
}
