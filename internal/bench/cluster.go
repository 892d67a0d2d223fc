package bench

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"nivot/internal/database"
)

// cluster compares what a commit, an edit until its email is queued, and sending cost on a node of a
// cluster of three with what they cost on one server.
func (b *bench) cluster() error {
	c, err := database.StartCluster(b.ctx, filepath.Join(b.dir, "nodes"), 3)
	if errors.Is(err, database.ErrNoGalera) {
		fmt.Fprintln(b.out, "a cluster is not measured:", err)
		return nil
	}
	if err != nil {
		return err
	}
	defer c.Stop()
	node := func(ctx context.Context, name string) (string, error) { return c.DSN(ctx, 0, name) }
	var sides [2]*editedSheet
	for k := range sides {
		if b.node = nil; k == 1 {
			b.node = node
		}
		if sides[k], err = b.edited(1000); err != nil {
			return err
		}
		defer sides[k].st.Close()
	}
	defer func() { b.node = nil }()
	var commits, edits, sent [2][]float64
	addr, stop, err := startSink()
	if err != nil {
		return err
	}
	defer stop()
	for round := range rounds {
		for k, x := range sides {
			if b.node = nil; k == 1 {
				b.node = node
			}
			commit, err := x.commits(b.ctx)
			if err != nil {
				return err
			}
			edit, err := x.edits(b.ctx, round)
			if err != nil {
				return err
			}
			rate, err := b.dispatchOnce(addr, 1000, 8)
			if err != nil {
				return err
			}
			commits[k], edits[k], sent[k] = append(commits[k], commit), append(edits[k], edit), append(sent[k], rate)
		}
	}
	ms := func(what string, v [2][]float64) {
		one, node := median(v[0]), median(v[1])
		b.add(Result{What: what, Against: "on one server", Value: fmt.Sprintf("%.2f ms", node),
			Limit: fmt.Sprintf("%.2f ms", one), Ratio: node / one, Goal: "(as it is)", Met: true})
	}
	ms("one commit on a node of a cluster of three", commits)
	ms("an edit to its email queued there", edits)
	one, there := median(sent[0]), median(sent[1])
	b.add(Result{What: "sending there, 8 connections", Against: "on one server", Value: fmt.Sprintf("%.0f/s", there),
		Limit: fmt.Sprintf("%.0f/s", one), Ratio: there / one, Goal: "(as it is)", Met: true})
	return nil
}
