package main

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"runtime/pprof"
	"slices"
	"strings"

	"nivot/internal/bench"
	"nivot/web"
)

func runBench(ctx context.Context, args []string) error {
	f := flags("bench")
	write := f.String("write", "", "also write the table to this file")
	only := f.String("only", "", "measure one alone: "+strings.Join(bench.Names, ", ")+"; or large, which are "+
		strings.Join(bench.Large, ", "))
	profile := f.String("cpuprofile", "", "write a CPU profile to this file")
	if err := f.Parse(args); err != nil {
		return err
	}
	if f.NArg() > 0 {
		return fmt.Errorf("bench takes no %q; to measure one alone, say -only %s", f.Arg(0), f.Arg(0))
	}
	if *only != "" && *only != "large" && !slices.Contains(bench.Names, *only) {
		return fmt.Errorf("there is nothing to measure called %q; there are %s", *only, strings.Join(bench.Names, ", "))
	}
	if *profile != "" {
		p, err := os.Create(*profile)
		if err != nil {
			return err
		}
		defer p.Close()
		if err := pprof.StartCPUProfile(p); err != nil {
			return err
		}
		defer pprof.StopCPUProfile()
	}
	rows, err := bench.Run(ctx, os.Stdout, *only, web.Files())
	if err != nil {
		return err
	}
	if *write == "" {
		return nil
	}
	machine := fmt.Sprintf("%d cores, %s/%s, %s", runtime.NumCPU(), runtime.GOOS, runtime.GOARCH, runtime.Version())
	return os.WriteFile(*write, []byte(bench.Markdown(rows, machine, *only == "large")), 0o644)
}
