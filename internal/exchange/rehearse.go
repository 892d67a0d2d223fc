package exchange

import (
	"bufio"
	"container/heap"
	"encoding/gob"
	"errors"
	"io"
	"os"
	"runtime"
	"slices"
	"sync"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/sheet"
)

// RehearsalLine is one line of a rehearsal as it is printed.
type RehearsalLine struct {
	At       string   `json:"at"`
	Rule     string   `json:"rule"`
	Row      *string  `json:"row"` // null of a round-up
	Rows     []string `json:"rows,omitempty"`
	Step     int      `json:"step"`
	Occasion string   `json:"occasion"`
	Outcome  string   `json:"outcome"`
	Template string   `json:"template,omitempty"`
	To       []string `json:"to"`
	Cc       []string `json:"cc,omitzero"`
	Subject  string   `json:"subject,omitempty"`
	Reason   string   `json:"reason"`
}

// Rehearse plays the bundle's rules that are on, or all of them, and gives the
// lines in order. Its memory does not grow with the rows that the bundle
// holds beyond the bundle itself: what is too much is put in order on disk.
func (b *Bundle) Rehearse(all bool, edits []plan.Edit, from, to time.Time, emit func(*RehearsalLine) error) error {
	settings, err := b.Settings(all)
	if err != nil {
		return err
	}
	scan := func(f func(*sheet.Row) error) error {
		for _, r := range b.Rows {
			if err := f(r); err != nil {
				return err
			}
		}
		return nil
	}
	return Rehearse(&plan.Rehearsal{Settings: settings, Edits: edits, From: from, To: to}, scan,
		func(l *plan.Line) error {
			return emit(b.printed(settings[l.Rule], l))
		})
}

// Rehearse plays a rehearsal over rows, on all processors, and gives its lines in order.
func Rehearse(r *plan.Rehearsal, scan func(func(*sheet.Row) error) error, emit func(*plan.Line) error) error {
	o := &ordering{most: spillAt}
	defer o.close()
	f, err := playAtOnce(r, scan, o.add)
	if err != nil {
		return err
	}
	if err := o.each(func(l *plan.Line) error { return f.Line(l, emit) }); err != nil {
		return err
	}
	return f.Flush(emit)
}

// errEnough ends a scan whose rows nobody wants any more.
var errEnough = errors.New("enough rows")

// playAtOnce plays a rehearsal's rows side by side while more are read, and hands their lines on one
// at a time.
func playAtOnce(r *plan.Rehearsal, scan func(func(*sheet.Row) error) error,
	emit func(*plan.Line) error) (f *plan.Merge, err error) {
	twins := make([]*plan.Rehearsal, runtime.GOMAXPROCS(0))
	for i := range twins {
		if twins[i], err = r.Twin(); err != nil {
			return nil, err
		}
	}
	batches, lines, enough := make(chan []*plan.Course), make(chan []*plan.Line), make(chan struct{})
	dealt := make(chan error, 1)
	go func() {
		defer close(batches)
		var err error
		f, err = r.Deal(scan, func(batch []*plan.Course) error {
			select {
			case batches <- batch:
				return nil
			case <-enough:
				return errEnough
			}
		})
		dealt <- err
	}()
	var players sync.WaitGroup
	for _, twin := range twins {
		players.Go(func() {
			for batch := range batches {
				select {
				case lines <- twin.PlayAll(batch):
				case <-enough:
				}
			}
		})
	}
	go func() { players.Wait(); close(lines) }()
	defer func() { // nobody goes on behind the caller's back
		close(enough)
		for range lines {
		}
	}()
	for some := range lines {
		for _, l := range some {
			if err := emit(l); err != nil {
				return nil, err
			}
		}
	}
	if err := <-dealt; err != nil {
		return nil, err
	}
	return f, nil
}

// printed turns a line of a rehearsal into its printed form.
func (b *Bundle) printed(s *plan.CompiledRule, l *plan.Line) *RehearsalLine {
	out := &RehearsalLine{At: l.At.In(s.Zone).Format(time.RFC3339), Rule: s.Rule.Name, Rows: l.Rows, Step: l.Step,
		Occasion: l.Occasion.String(), Outcome: string(l.Outcome), To: []string{}, Reason: l.Reason}
	if l.Rows == nil {
		out.Row = &l.Row
	}
	if l.Outcome == plan.Skip {
		return out
	}
	if t, ok := b.Templates[l.Template]; ok {
		out.Template = t.Name
	}
	out.To, out.Cc, out.Subject = append(out.To, l.To...), append([]string{}, l.Cc...), l.Subject
	return out
}

// spillAt is how many lines are put in order in memory. Tests make it small.
var spillAt = 200_000

// ordering puts lines in order: in memory up to a number, beyond it in sorted
// runs on disk that are merged.
type ordering struct {
	most  int
	lines []*plan.Line
	runs  []*os.File
}

func (o *ordering) add(l *plan.Line) error {
	o.lines = append(o.lines, l)
	if len(o.lines) < o.most {
		return nil
	}
	return o.spill()
}

func (o *ordering) sort() {
	slices.SortFunc(o.lines, plan.Compare) // no two are alike
}

func (o *ordering) spill() error {
	o.sort()
	f, err := os.CreateTemp("", "nivot-rehearsal-")
	if err != nil {
		return err
	}
	o.runs = append(o.runs, f)
	if err := os.Remove(f.Name()); err != nil { // it goes with its last handle
		return err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	enc := gob.NewEncoder(w)
	for _, l := range o.lines {
		if err := enc.Encode(l); err != nil {
			return err
		}
	}
	clear(o.lines)
	o.lines = o.lines[:0]
	return w.Flush()
}

func (o *ordering) close() {
	for _, f := range o.runs {
		f.Close()
	}
}

// each gives the lines in order.
func (o *ordering) each(f func(*plan.Line) error) error {
	if len(o.runs) == 0 {
		o.sort()
		for _, l := range o.lines {
			if err := f(l); err != nil {
				return err
			}
		}
		return nil
	}
	o.sort()
	sources := []source{fromMemory(o.lines)} // the last run needs no disk
	done := make(chan struct{})
	var readers sync.WaitGroup
	defer readers.Wait() // nobody goes on behind the caller's back
	defer close(done)
	for _, file := range o.runs {
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return err
		}
		sources = append(sources, readAhead(file, &readers, done))
	}
	h := &merge{}
	for _, next := range sources {
		switch l, err := next(); {
		case err == nil:
			*h = append(*h, &run{next, l})
		case !errors.Is(err, io.EOF):
			return err
		}
	}
	heap.Init(h)
	for h.Len() > 0 {
		r := (*h)[0]
		if err := f(r.line); err != nil {
			return err
		}
		var err error
		switch r.line, err = r.next(); {
		case err == nil:
			heap.Fix(h, 0)
		case errors.Is(err, io.EOF):
			heap.Pop(h)
		default:
			return err
		}
	}
	return nil
}

// source gives the lines of a sorted run one by one, and io.EOF after the last.
type source func() (*plan.Line, error)

func fromMemory(lines []*plan.Line) source {
	return func() (*plan.Line, error) {
		if len(lines) == 0 {
			return nil, io.EOF
		}
		l := lines[0]
		lines = lines[1:]
		return l, nil
	}
}

// aheadLines is how many lines are read from disk at once.
const aheadLines = 200

// readAhead reads a run back from disk while what has been read is made use of.
func readAhead(file *os.File, readers *sync.WaitGroup, done <-chan struct{}) source {
	type part struct {
		lines []*plan.Line
		err   error // behind them
	}
	parts := make(chan part)
	readers.Go(func() {
		dec := gob.NewDecoder(bufio.NewReaderSize(file, 1<<18))
		for {
			var p part
			for len(p.lines) < aheadLines && p.err == nil {
				l := new(plan.Line)
				if p.err = dec.Decode(l); p.err == nil {
					p.lines = append(p.lines, l)
				}
			}
			select {
			case parts <- p:
			case <-done:
				return
			}
			if p.err != nil {
				return
			}
		}
	})
	var now part
	return func() (*plan.Line, error) {
		for len(now.lines) == 0 {
			if now.err != nil {
				return nil, now.err
			}
			now = <-parts
		}
		l := now.lines[0]
		now.lines = now.lines[1:]
		return l, nil
	}
}

// run is a sorted run and the first line of it that is left.
type run struct {
	next source
	line *plan.Line
}

type merge []*run

func (m merge) Len() int           { return len(m) }
func (m merge) Less(i, j int) bool { return plan.Compare(m[i].line, m[j].line) < 0 }
func (m merge) Swap(i, j int)      { m[i], m[j] = m[j], m[i] }
func (m *merge) Push(x any)        { *m = append(*m, x.(*run)) }
func (m *merge) Pop() any {
	old := *m
	x := old[len(old)-1]
	*m = old[:len(old)-1]
	return x
}
