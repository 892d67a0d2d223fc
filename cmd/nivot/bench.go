package main

import (
	"context"
	"errors"
)

func runBench(context.Context, []string) error { return errors.New("x") }
