package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/exchange"
)

// parseMixed parses flags that may stand before or behind the one argument.
func parseMixed(f *flag.FlagSet, args []string) (string, error) {
	var arg string
	for len(args) > 0 {
		if err := f.Parse(args); err != nil {
			return "", err
		}
		args = f.Args()
		if len(args) > 0 {
			if arg != "" {
				return "", fmt.Errorf("one bundle at a time; %q is too much", args[0])
			}
			arg, args = args[0], args[1:]
		}
	}
	if arg == "" {
		return "", errors.New("name the bundle: a folder or a .zip")
	}
	return arg, nil
}

func runCheck(ctx context.Context, args []string) error {
	if len(args) == 0 {
		return checkDatabase(ctx)
	}
	path, err := parseMixed(flags("check"), args)
	if err != nil {
		return err
	}
	b, err := exchange.OpenBundle(path)
	if err != nil {
		return err
	}
	fmt.Printf("%s is in order: %d columns, %d rows, %d templates, %d rules.\n", path, len(b.Sheet.Columns), len(b.Rows),
		len(b.Templates), len(b.Rules))
	return nil
}

func runRehearse(_ context.Context, args []string) error {
	f := flags("rehearse")
	from := f.String("from", "",
		"begin here: 2027-03-15T08:40, wall time of the sheet's zone unless it has an offset (needed)")
	to := f.String("to", "", "end before here (needed)")
	edits := f.String("edits", "", "file of edits, one JSON object a line")
	all := f.Bool("all", false, "play every rule, not only those that are on")
	format := f.String("format", "jsonl", "jsonl or text")
	path, err := parseMixed(f, args)
	if err != nil {
		return err
	}
	b, err := exchange.OpenBundle(path)
	if err != nil {
		return err
	}
	start, err := exchange.ParseInstant(*from, b.Sheet.Zone)
	if err != nil {
		return fmt.Errorf("--from: %w", err)
	}
	end, err := exchange.ParseInstant(*to, b.Sheet.Zone)
	if err != nil {
		return fmt.Errorf("--to: %w", err)
	}
	if !start.Before(end) {
		return errors.New("--from has to be earlier than --to")
	}
	if *format != "jsonl" && *format != "text" {
		return fmt.Errorf("--format is jsonl or text, not %q", *format)
	}
	var list []plan.Edit
	if *edits != "" {
		data, err := os.ReadFile(*edits)
		if err != nil {
			return err
		}
		if list, err = b.ReadEdits(data); err != nil {
			return err
		}
	}
	out := bufio.NewWriter(os.Stdout)
	if *format == "jsonl" {
		err = b.Rehearse(*all, list, start, end, jsonLines(out))
	} else {
		err = rehearseText(out, b, *all, list, start, end)
	}
	if err != nil {
		return err
	}
	return out.Flush()
}

// rehearseText prints the rules as sentences, their occasions under each day,
// and why the first rows that get nothing get nothing.
func rehearseText(w io.Writer, b *exchange.Bundle, all bool, edits []plan.Edit, from, to time.Time) error {
	got := map[[2]string]bool{}
	print := textLines(w, b, all)
	err := b.Rehearse(all, edits, from, to, func(l *exchange.RehearsalLine) error {
		if l.Row != nil && l.Outcome == string(plan.Send) {
			got[[2]string{l.Rule, *l.Row}] = true
		}
		return print(l)
	})
	if err != nil {
		return err
	}
	settings, err := b.Settings(all)
	if err != nil {
		return err
	}
	for _, s := range settings {
		if s.IsRoundUp() {
			continue
		}
		n := 0
		for _, row := range b.Rows {
			if got[[2]string{s.Rule.Name, row.ID}] {
				continue
			}
			if n++; n == 1 {
				fmt.Fprintf(w, "\n%s, as the rows are at the beginning:\n", s.Rule.Name)
			}
			if n > explained {
				fmt.Fprintf(w, "  ... and more rows that get nothing\n")
				break
			}
			fmt.Fprintf(w, "  %s: %s\n", row.ID, s.Explain(row, from, plan.Memory{}).Summary)
		}
	}
	return nil
}

// explained is how many rows of a rule are explained.
const explained = 10

func jsonLines(w io.Writer) func(*exchange.RehearsalLine) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	return func(l *exchange.RehearsalLine) error { return enc.Encode(l) }
}

// textLines prints the rules as sentences, and their occasions under each day.
func textLines(w io.Writer, b *exchange.Bundle, all bool) func(*exchange.RehearsalLine) error {
	name := func(id string) string {
		if t, ok := b.Templates[id]; ok {
			return t.Name
		}
		return id
	}
	for _, r := range b.Rules {
		if all || r.State == rule.On {
			fmt.Fprintf(w, "%s: %s\n", r.Name, rule.Text(r.Sentence(b.Sheet, name)))
		}
	}
	day := ""
	return func(l *exchange.RehearsalLine) error {
		at, err := time.Parse(time.RFC3339, l.At)
		if err != nil {
			return err
		}
		if d := at.Format("Monday 2 January 2006"); d != day {
			day = d
			fmt.Fprintf(w, "\n%s\n", d)
		}
		who := strings.Join(l.Rows, ", ")
		if l.Row != nil {
			who = *l.Row
		}
		fmt.Fprintf(w, "  %s  %-10s  %s, %s", at.Format(time.TimeOnly)[:5], l.Outcome, l.Rule, who)
		if l.Subject != "" {
			fmt.Fprintf(w, ": “%s” to %s", l.Subject, strings.Join(l.To, ", "))
		}
		_, err = fmt.Fprintf(w, " (%s)\n", l.Reason)
		return err
	}
}
