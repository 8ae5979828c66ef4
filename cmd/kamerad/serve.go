package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad/client"
	"kamerad/console"
	"kamerad/demo"
	"kamerad/service"
	"kamerad/store"
)

func serveFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "listen", Usage: "`HOST:PORT` to listen on; loopback only, port 0 is any free one", Value: "127.0.0.1:7707", Sources: cli.EnvVars("KAMERAD_LISTEN")},
		&cli.StringFlag{Name: "database", Usage: "PostgreSQL connection `URL`", Value: "postgres://127.0.0.1:5432/kamerad", Sources: cli.EnvVars("KAMERAD_DATABASE"), HideDefault: true},
		&cli.StringFlag{Name: "address-file", Usage: "write the service's address to this `FILE` once it answers", Sources: cli.EnvVars("KAMERAD_ADDRESS_FILE")},
	}
}

func serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "run the service", Flags: serveFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := words(c, "", 0, 0); err != nil {
				return err
			}
			return serve(ctx, c, nil)
		},
	}
}

func demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "run the service with Tidewreck and two divers that play it",
		Flags: append(serveFlags(), &cli.DurationFlag{Name: "pause", Usage: "`TIME` between two requests of a diver", Value: 900 * time.Millisecond}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := words(c, "", 0, 0); err != nil {
				return err
			}
			return serve(ctx, c, func(ctx context.Context, address string) error {
				api := client.API{Service: address}
				v, err := api.Publish(ctx, "tidewreck.kam", demo.Contract, demo.Files)
				if err != nil {
					return err
				}
				s, err := api.Open(ctx, client.OpenSession{Contract: v.Contract, Version: v.Version})
				if err != nil {
					return err
				}
				for i, name := range []string{"Ana", "Bo"} {
					diver, err := client.Join(ctx, address, s.ID, name, "player", client.Options{})
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
				fmt.Printf("Tidewreck runs as session %d with the divers Ana and Bo.\nConsole: %s/sessions/%d\n", s.ID, address, s.ID)
				return nil
			})
		},
	}
}

// serve runs the service until ctx ends; started is called once it answers.
func serve(ctx context.Context, c *cli.Command, started func(ctx context.Context, address string) error) error {
	host, _, err := net.SplitHostPort(c.String("listen"))
	if ip := net.ParseIP(host); err != nil || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("listen on %q: this version serves on loopback only; use 127.0.0.1:PORT", c.String("listen"))
	}
	db, err := store.Open(ctx, c.String("database"))
	if err != nil {
		return fmt.Errorf("%w\nIs PostgreSQL running there? `./run postgres` starts one for Kamerad and prints its URL for --database", err)
	}
	defer db.Close()
	listener, err := net.Listen("tcp", c.String("listen"))
	if err != nil {
		return fmt.Errorf("%w; choose another port with --listen", err)
	}
	svc, err := service.New(ctx, db, console.Files())
	if err != nil {
		listener.Close()
		return err
	}
	address := "http://" + listener.Addr().String()
	failed := make(chan error, 1)
	// What was started ends when the service does, also when it ends by itself.
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() { failed <- svc.Serve(ctx, listener) }()
	fmt.Printf("Kamerad serves at %s\n", address)
	if started != nil {
		if err := started(ctx, address); err != nil {
			cancel()
			<-failed
			return err
		}
	}
	if file := c.String("address-file"); file != "" {
		if err := os.WriteFile(file, []byte(address+"\n"), 0o644); err != nil {
			cancel()
			<-failed
			return fmt.Errorf("write the address: %w", err)
		}
		defer os.Remove(file)
	}
	if err := <-failed; err != nil {
		return err
	}
	fmt.Println("Stopped: all clients were told and all records are stored.")
	return nil
}
