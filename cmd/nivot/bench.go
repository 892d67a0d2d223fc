package main

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"runtime/pprof"

	"nivot/internal/bench"
	"nivot/web"
)

func runBench(ctx context.Context, args []string) error {
	f := flags("bench")
	write := f.String("write", "", "also write the table to this file")
	only := f.String("only", "", "measure one alone: client, dispatch, idle, due, render, rehearse, import, edit, views or grid")
	profile := f.String("cpuprofile", "", "write a CPU profile to this file")
	if err := f.Parse(args); err != nil {
		return err
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
	return os.WriteFile(*write, []byte(bench.Markdown(rows, machine)), 0o644)
}
