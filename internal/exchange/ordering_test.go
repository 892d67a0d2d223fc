package exchange

import (
	"errors"
	"testing"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
)

// Lines that are more than memory takes come in order, whole, and once; whoever wants no more of
// them gets no more; a run that cannot be read ends with an error.
func TestOrdering(t *testing.T) {
	start := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	const n = 2000 // several times what is read ahead, in runs of 600 and a rest
	fill := func(t *testing.T) *ordering {
		o := &ordering{most: 600}
		t.Cleanup(o.close)
		for i := range n {
			at := i * 7919 % n
			l := &plan.Line{At: start.Add(time.Duration(at) * time.Minute), Seq: at, Occasion: rule.ID{byte(at), byte(at >> 8)}}
			if err := o.add(l); err != nil {
				t.Fatal(err)
			}
		}
		return o
	}
	t.Run("in order", func(t *testing.T) {
		next := 0
		err := fill(t).each(func(l *plan.Line) error {
			if want := (rule.ID{byte(next), byte(next >> 8)}); l.Seq != next || l.Occasion != want || l.Whole != (rule.ID{}) {
				t.Fatalf("line %d: got %+v", next, l)
			}
			next++
			return nil
		})
		if err != nil || next != n {
			t.Errorf("got %d lines, %v, want %d", next, err, n)
		}
	})
	t.Run("no more is wanted", func(t *testing.T) {
		got := 0
		err := fill(t).each(func(*plan.Line) error {
			if got++; got == 5 {
				return errEnough
			}
			return nil
		})
		if !errors.Is(err, errEnough) || got != 5 {
			t.Errorf("got %d lines and %v, want 5 and %v", got, err, errEnough)
		}
	})
	t.Run("a run that is cut", func(t *testing.T) {
		o := fill(t)
		info, err := o.runs[1].Stat()
		if err == nil {
			err = o.runs[1].Truncate(info.Size() - 3)
		}
		if err != nil {
			t.Fatal(err)
		}
		got := 0
		if err := o.each(func(*plan.Line) error { got++; return nil }); err == nil {
			t.Errorf("got %d lines and no error", got)
		}
	})
}
