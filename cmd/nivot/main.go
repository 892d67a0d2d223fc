// Command nivot is the whole of Nivot: the server, the demo, the rehearsal.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"syscall"
)

// version is set when a release is built.
var version = "development"

// command is one of the program's subcommands.
type command struct {
	name, args, what string
	run              func(ctx context.Context, args []string) error
}

func commands() []command {
	return []command{
		{"demo", "", "run everything with the demo data: database, practice mail server, application", runDemo},
		{"serve", "", "run the application on the database that NIVOT_DSN names", runServe},
		{"migrate", "", "bring the tables of the database up to date and end", runMigrate},
		{"rehearse", "BUNDLE", "print what a bundle's rules will send; needs no database and no network", runRehearse},
		{"check", "[BUNDLE]", "say whether a bundle is in order, or, without one, the database that NIVOT_DSN names",
			runCheck},
		{"bench", "", "measure speed against limits taken in the same run", runBench},
		{"version", "", "print the version", func(context.Context, []string) error {
			fmt.Println("nivot", version)
			return nil
		}},
	}
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := startLog(len(os.Args) > 1 && os.Args[1] == "serve"); err != nil {
		fmt.Fprintln(os.Stderr, "nivot:", err)
		os.Exit(1)
	}
	if err := run(ctx, os.Args[1:]); err != nil && !errors.Is(err, flag.ErrHelp) {
		fmt.Fprintln(os.Stderr, "nivot:", err)
		os.Exit(1)
	}
}

// startLog has the log say what NIVOT_LOG asks for.
func startLog(serves bool) error {
	level := slog.LevelWarn
	if serves {
		level = slog.LevelInfo
	}
	switch v := os.Getenv("NIVOT_LOG"); v {
	case "":
	case "warn", "info", "debug":
		if err := level.UnmarshalText([]byte(v)); err != nil {
			return err
		}
	default:
		return fmt.Errorf("NIVOT_LOG is %q; warn, info or debug is wanted", v)
	}
	slog.SetDefault(slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level})))
	return nil
}

func run(ctx context.Context, args []string) error {
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "--help" {
		help(os.Stdout)
		return nil
	}
	for _, c := range commands() {
		if c.name == args[0] {
			return c.run(ctx, args[1:])
		}
	}
	help(os.Stderr)
	return fmt.Errorf("there is no command %q", args[0])
}

// flags makes the flag set of a command; its usage is the command's line.
func flags(name string) *flag.FlagSet {
	f := flag.NewFlagSet(name, flag.ContinueOnError)
	f.Usage = func() {
		for _, c := range commands() {
			if c.name == name {
				fmt.Fprintf(f.Output(), "nivot %s %s\n  %s\n", c.name, c.args, c.what)
			}
		}
		f.PrintDefaults()
	}
	return f
}
