package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/cmd/kamerad/player"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/console"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/session"
	"kamerad.example/demo"
	"kamerad.example/service"
	"kamerad.example/service/door"
	"kamerad.example/store"
)

// maxSessionMemory is how much memory a session can be given at most, in MB.
const maxSessionMemory = 1 << 20

// serveFlags are the flags of whatever runs a service. Each of them is a setting in the file as well.
func serveFlags(f *configFile) []cli.Flag {
	return slices.Concat(
		whereFlags(f), databaseSettings(f), doorFlags(f), limitFlags(f), runFlags(f), traceFlags(f), fileFlags(f),
	)
}

// whereFlags are the flags that say where a service takes its settings from, and where it listens.
func whereFlags(f *configFile) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:        "config",
			Usage:       "read settings from this `FILE` (TOML), each by the name of its flag",
			Sources:     cli.EnvVars("KAMERAD_CONFIG"),
			Destination: &f.path,
		},
		&cli.BoolFlag{Name: "print-config", Usage: "print all settings and where they come from, and end"},
		&cli.StringFlag{
			Name:    "listen",
			Usage:   "`HOST:PORT` to listen on; port 0 is any free one. Beyond loopback, see `kamerad secure`",
			Value:   "127.0.0.1:7707",
			Sources: f.sources("listen"),
		},
	}
}

// doorFlags are the flags that say who may use a service, and from where.
func doorFlags(f *configFile) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:    "tickets",
			Usage:   "let clients join by tickets alone, which the keys in this `FILE` have signed; see `kamerad key`",
			Sources: f.sources("tickets"),
		},
		&cli.BoolFlag{
			Name:    "tokens",
			Usage:   "let those use the API and the console alone who have a token; see `kamerad token`",
			Sources: f.sources("tokens"),
		},
		&cli.StringFlag{
			Name:    "tls-cert",
			Usage:   "serve by TLS with the certificate in this `FILE`, read anew when it changes",
			Sources: f.sources("tls-cert"),
		},
		&cli.StringFlag{
			Name:    "tls-key",
			Usage:   "with --tls-cert: its key is in this `FILE`",
			Sources: f.sources("tls-key"),
		},
		&cli.StringSliceFlag{
			Name: "behind-proxy",
			Usage: "believe the proxies in this `NETWORK`, such as 10.1.0.0/16, for whom they call and that TLS ends " +
				"there; several with commas",
			Sources: f.sources("behind-proxy"),
		},
		&cli.StringSliceFlag{
			Name:    "allow-origin",
			Usage:   "let pages of this `ORIGIN`, such as https://play.wreck.example, join; several with commas",
			Sources: f.sources("allow-origin"),
		},
	}
}

// limitFlags are the flags that say what one address may.
func limitFlags(f *configFile) []cli.Flag {
	d := door.DefaultLimits()
	return []cli.Flag{
		&cli.IntFlag{
			Name:      "address-connections",
			Usage:     "`N` connections that one address may have open; 0 for any",
			Value:     d.Connections,
			Sources:   f.sources("address-connections"),
			Validator: notNegative[int],
		},
		&cli.FloatFlag{
			Name:      "address-connects",
			Usage:     "`N` new connections a second of one address, and four times that at once; 0 for any",
			Value:     d.Connects,
			Sources:   f.sources("address-connects"),
			Validator: notNegative[float64],
		},
		&cli.FloatFlag{
			Name:      "address-joins",
			Usage:     "`N` joins a second of one address, and four times that at once; 0 for any",
			Value:     d.Joins,
			Sources:   f.sources("address-joins"),
			Validator: notNegative[float64],
		},
		&cli.FloatFlag{
			Name:      "address-failures",
			Usage:     "`N` wrong tickets and tokens a second that are looked at of one address; 0 for any",
			Value:     d.Failures,
			Sources:   f.sources("address-failures"),
			Validator: notNegative[float64],
		},
		&cli.FloatFlag{
			Name:      "address-messages",
			Usage:     "`N` messages a second of all clients of one address; more wait; 0 for any",
			Value:     d.Messages,
			Sources:   f.sources("address-messages"),
			Validator: notNegative[float64],
		},
		&cli.FloatFlag{
			Name:      "address-bytes",
			Usage:     "`N` bytes a second of all clients of one address; more wait; 0 for any",
			Value:     d.Bytes,
			Sources:   f.sources("address-bytes"),
			Validator: notNegative[float64],
		},
	}
}

// traceFlags are the flags that say who is told the way of requests.
func traceFlags(f *configFile) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name: "traces",
			Usage: "tell the way of requests to the OpenTelemetry collector at this `URL`, by OTLP over HTTP; as in " +
				"http://127.0.0.1:4318",
			Sources: f.sources("traces"),
		},
		&cli.FloatFlag{
			Name:    "traces-share",
			Usage:   "with --traces: a `SHARE` of the requests, from 0 to 1",
			Value:   0.01,
			Sources: f.sources("traces-share"),
			Validator: func(share float64) error {
				if !(share >= 0 && share <= 1) {
					return errors.New("a share is from 0 to 1")
				}
				return nil
			},
		},
	}
}

// runFlags are the flags that say who is told what happens, and what is kept of it.
func runFlags(f *configFile) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:    "backend",
			Usage:   "tell the game's backend at this `URL` who joins and leaves, and how sessions end",
			Sources: f.sources("backend"),
		},
		&cli.StringFlag{
			Name:    "backend-key",
			Usage:   "with --backend: sign what it is told with the private key in this `FILE`; see `kamerad key`",
			Sources: f.sources("backend-key"),
		},
		&cli.StringFlag{
			Name: "on-stop",
			Usage: "what becomes of sessions when the service stops: `close` them, or leave them open for the next " +
				"service, which goes on with them",
			Value:     "close",
			Sources:   f.sources("on-stop"),
			Validator: oneOf("close", "leave"),
		},
		&cli.DurationFlag{
			Name:      "keep-for",
			Usage:     "how long recordings, decisions, closed sessions and trials are kept: a `TIME`; 0 for ever",
			Value:     30 * 24 * time.Hour,
			Sources:   f.sources("keep-for"),
			Validator: notNegative[time.Duration],
		},
		&cli.Int64Flag{
			Name:      "keep-size",
			Usage:     "`MB` that all recordings may take; over it, the oldest of closed sessions go; 0 for any",
			Value:     10_000,
			Sources:   f.sources("keep-size"),
			Validator: notNegative[int64],
		},
		&cli.IntFlag{
			Name: "session-memory",
			Usage: "`MB` that the entities of one session may take, and what its clients are told of them; " +
				"`kamerad cost` tells what each kind takes",
			Value:   session.DefaultMemory >> 20,
			Sources: f.sources("session-memory"),
			Validator: func(mb int) error {
				if mb < 1 || mb > maxSessionMemory {
					return fmt.Errorf("%d MB for a session; from 1 to %d", mb, maxSessionMemory)
				}
				return nil
			},
		},
	}
}

// fileFlags are the flags that say what contracts are held against, and what is written where.
func fileFlags(f *configFile) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:    "policy",
			Usage:   "publish only contracts that keep to the rules of a team in this `FILE`; see `check --policy`",
			Sources: f.sources("policy"),
		},
		&cli.StringFlag{
			Name:      "log-format",
			Usage:     "write the log as `FORMAT`: text, or json with one object a line",
			Value:     "text",
			Sources:   f.sources("log-format"),
			Validator: oneOf("text", "json"),
		},
		&cli.StringFlag{
			Name:      "log-level",
			Usage:     "log what is at least of this `LEVEL`: debug, info, warn or error",
			Value:     "info",
			Sources:   f.sources("log-level"),
			Validator: oneOf("debug", "info", "warn", "error"),
		},
		&cli.StringFlag{
			Name:    "address-file",
			Usage:   "write the service's address to this `FILE` once it answers",
			Sources: f.sources("address-file"),
		},
	}
}

// serveCommand is `kamerad serve`.
func serveCommand() *cli.Command {
	settings := &configFile{}
	return &cli.Command{
		Name:  "serve",
		Usage: "run the service",
		Flags: append(serveFlags(settings),
			&cli.StringFlag{
				Name:  "one",
				Usage: "run one session of the contract in `FILE` without a database, and end with it",
			},
			&cli.StringFlag{Name: "as", Usage: "with --one: play in it as `NAME`, the host"},
			&cli.StringFlag{Name: "role", Usage: "with --as: the host's `ROLE`, the contract's first one otherwise"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := terminal.Words(c, "", 0, 0); err != nil {
				return err
			}
			if err := settings.check(); err != nil {
				return err
			}
			if c.Bool("print-config") {
				return printConfig(c, settings)
			}
			if c.String("one") == "" {
				if c.String("as")+c.String("role") != "" {
					return fmt.Errorf(
						"serve: --as and --role go with --one FILE; others join with `kamerad join SESSION --as NAME`",
					)
				}
				return serve(ctx, c, nil)
			}
			return serveOne(ctx, c)
		},
	}
}

// serveOne runs one session of a contract file, with nothing stored, and lets its host play in it.
//
// It is the whole service but for its database: others join over the network, the console shows the
// session. With --as it ends when its host leaves.
func serveOne(ctx context.Context, c *cli.Command) error {
	file := c.String("one")
	source, err := readContract(file)
	if err != nil {
		return err
	}
	files := contract.Files{}
	_, _ = compile.LoadWith(file, source, beside(file, files)) // the service tells the mistakes
	if c.String("as") != "" {
		slog.SetLogLoggerLevel(slog.LevelWarn) // the terminal is the host's
	}
	records := &store.Memory{}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	o := service.Options{Records: records, Recorder: records}
	return serveWith(ctx, c, o, func(ctx context.Context, svc *service.Service, address string) error {
		admin := svc.Admin("serve")
		v, err := admin.Publish(ctx, file, source, files)
		var problem *api.Problem
		if errors.As(err, &problem) && problem.Problems != nil {
			printProblems(problem.Problems)
			return fmt.Errorf("serve %s: %s", file, problem.Detail)
		} else if err != nil {
			return err
		}
		s, err := admin.Open(ctx, api.OpenSession{Contract: v.Contract, Version: v.Version})
		if err != nil {
			return err
		}
		fmt.Printf(
			"%s runs as session %d; others join it with: kamerad join %d --as NAME --service %s\n"+
				"Console: %s/sessions/%d\n",
			v.Contract, s.ID, s.ID, address, address, s.ID,
		)
		if c.String("as") == "" {
			return nil
		}
		p, err := player.New(false, func(o client.Options) (*client.Client, error) {
			return svc.Host(ctx, s.ID, c.String("as"), c.String("role"), o)
		})
		if err != nil {
			return err
		}
		go func() {
			if err := p.Play(ctx); err != nil {
				fmt.Fprintln(os.Stderr, terminal.Bad.Sprint(err))
			}
			cancel() // the session ends with its host
		}()
		return nil
	})
}

// demoCommand is `kamerad demo`.
//
// The divers are clients like any others, over a socket of this machine. A demo that is started twice
// on one database publishes the contract once and opens another session.
func demoCommand() *cli.Command {
	settings := &configFile{}
	return &cli.Command{
		Name: "demo", Usage: "run the service with Tidewreck and two divers that play it",
		Flags: append(
			serveFlags(settings),
			&cli.DurationFlag{
				Name:  "pause",
				Usage: "`TIME` between two requests of a diver",
				Value: 900 * time.Millisecond,
			},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := terminal.Words(c, "", 0, 0); err != nil {
				return err
			}
			if err := settings.check(); err != nil {
				return err
			}
			if c.Bool("print-config") {
				return printConfig(c, settings)
			}
			return serve(ctx, c, func(ctx context.Context, svc *service.Service, address string) error {
				admin := svc.Admin("demo")
				v, err := admin.Publish(ctx, "tidewreck.kam", demo.Contract, demo.Files)
				if err != nil {
					return err
				}
				if err := closeLeftOver(ctx, admin, v.Contract); err != nil {
					return err
				}
				s, err := admin.Open(ctx, api.OpenSession{Contract: v.Contract, Version: v.Version, Seed: 7})
				if err != nil {
					return err
				}
				for i, name := range []string{"Ana", "Bo"} {
					diver, err := joinDemo(ctx, svc, address, s.ID, name)
					if err != nil {
						return err
					}
					// A little apart, so that not both act in the same tick.
					pause := c.Duration("pause") * time.Duration(10+i) / 10
					go func() {
						if err := demo.Play(ctx, diver, uint64(i+1), pause); err != nil {
							slog.Warn("a bot ended early", "name", name, "error", err)
						}
					}()
				}
				fmt.Printf(
					"Tidewreck runs as session %d with the divers Ana and Bo.\nConsole: %s/sessions/%d\n", s.ID,
					address, s.ID,
				)
				return nil
			})
		},
	}
}

// joinDemo seats a diver of the demo: over a socket of this machine like any other client, but for a service that wants
// tickets, where it plays within.
func joinDemo(
	ctx context.Context, svc *service.Service, address string, session int64, name string,
) (*client.Client, error) {
	if svc.WantsTickets() {
		return svc.Host(ctx, session, name, "player", client.Options{})
	}
	return client.Join(ctx, address, session, name, "player", client.Options{})
}

// closeLeftOver closes the sessions of a contract that go on from before: the divers of an earlier demo were in it, and
// what they keep is in one session at a time.
func closeLeftOver(ctx context.Context, admin api.Client, contract string) error {
	list, err := admin.Sessions(ctx)
	if err != nil {
		return err
	}
	for _, s := range list {
		if s.Contract != contract || s.ClosedAt != nil {
			continue
		}
		if _, err := admin.Close(ctx, s.ID, "the demo began anew"); err != nil {
			return err
		}
	}
	return nil
}

// oneOf refuses a text that is none of some.
func oneOf(words ...string) func(string) error {
	return func(text string) error {
		if !slices.Contains(words, text) {
			return fmt.Errorf("one of %s, not %.20q", strings.Join(words, ", "), text)
		}
		return nil
	}
}

// setLog has the log written as the settings say.
func setLog(c *cli.Command) error {
	var level slog.Level
	if err := level.UnmarshalText([]byte(c.String("log-level"))); err != nil {
		return fmt.Errorf("read --log-level: %w", err)
	}
	if c.String("log-format") == "json" {
		slog.SetDefault(slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level})))
		return nil
	}
	slog.SetLogLoggerLevel(level)
	return nil
}

// notNegative refuses a number below 0.
func notNegative[T int | int64 | float64 | time.Duration](n T) error {
	if n < 0 {
		return fmt.Errorf("from 0, not %v", n)
	}
	return nil
}

// begun is called once a service answers.
type begun func(ctx context.Context, svc *service.Service, address string) error

// serve runs the service on a database until ctx ends.
//
// The address is looked at first: whoever mistypes it need not wait for a database.
func serve(ctx context.Context, c *cli.Command, started begun) error {
	if err := checkListen(c, true); err != nil {
		return err
	}
	address, err := databaseOf(c)
	if err != nil {
		return err
	}
	db, err := store.Open(ctx, address)
	if err != nil {
		return fmt.Errorf(
			"%w\nIs PostgreSQL running there? `./run postgres` starts one for Kamerad and prints its URL for "+
				"--database; `serve --one FILE` needs none",
			err,
		)
	}
	defer db.Close()
	return serveWith(ctx, c, service.Options{
		Records:     db,
		Recorder:    store.NewRecorder(db),
		Recordings:  db,
		DoorRecords: db,
		Retention:   store.Retention{Age: c.Duration("keep-for"), Bytes: c.Int64("keep-size") * 1_000_000},
	}, started)
}

// serveWith runs the service until ctx ends.
//
// It prints one line once it listens and one when it has stopped. What could not be told or stored
// until the deadline is listed, with exit status 1.
func serveWith(ctx context.Context, c *cli.Command, o service.Options, started begun) error {
	if err := checkListen(c, o.DoorRecords != nil); err != nil {
		return err
	}
	if err := secureOptions(ctx, c, &o); err != nil {
		return err
	}
	if c.String("as") == "" { // else the terminal is the host's
		if err := setLog(c); err != nil {
			return err
		}
	}
	rules, err := readPolicy(c)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", c.String("listen"))
	if err != nil {
		return fmt.Errorf("%w; choose another port with --listen", err)
	}
	o.Console = console.Files()
	o.Policy = rules
	o.SessionMemory = int64(c.Int("session-memory")) << 20
	o.KeepOpen = c.String("on-stop") == "leave"
	svc, err := service.New(ctx, o)
	if err != nil {
		listener.Close()
		return err
	}
	address := "http://" + listener.Addr().String()
	if o.Certificate != nil {
		address = "https://" + listener.Addr().String()
	}
	failed := make(chan error, 1)
	// What was started ends when the service does, also when it ends by itself.
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() { failed <- svc.Serve(ctx, listener) }()
	fmt.Printf("Kamerad serves at %s\n", address)
	if started != nil {
		if err := started(ctx, svc, address); err != nil {
			cancel()
			return errors.Join(err, <-failed)
		}
	}
	// Whoever waits for the file finds a service that answers, with everything that it starts with.
	if file := c.String("address-file"); file != "" {
		if err := os.WriteFile(file, []byte(address+"\n"), 0o644); err != nil {
			cancel()
			return errors.Join(fmt.Errorf("write the address: %w", err), <-failed)
		}
		defer os.Remove(file)
	}
	return sayStopped(<-failed, c.String("one") != "")
}

// sayStopped says how a service has stopped. What could not be done is listed.
func sayStopped(err error, isAlone bool) error {
	var missed service.NotDone
	if errors.As(err, &missed) {
		fmt.Fprintln(os.Stderr, terminal.Bad.Sprint(missed.Error()))
		return terminal.ErrFound
	}
	if err != nil {
		return err
	}
	what := " and all records are stored."
	if isAlone {
		what = "."
	}
	fmt.Println("Stopped: all clients were told" + what)
	return nil
}
