package plan

import (
	"cmp"
	"container/heap"
	"slices"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Compare orders lines by time, then row (added rows last), then rule, then as
// their row gave them: by step, and mailbox.
func Compare(a, b *Line) int {
	if c := a.At.Compare(b.At); c != 0 {
		return c
	}
	return cmp.Or(cmp.Compare(a.Order, b.Order), cmp.Compare(a.Rule, b.Rule), cmp.Compare(a.Step, b.Step),
		cmp.Compare(a.Seq, b.Seq))
}

// Merge does with lines in order what takes more than one row to know: it
// puts round-ups together, skips what says what another has said, and applies the
// brake. Nobody approves; the brake lets go after ten minutes without any email.
type Merge struct {
	r       *Rehearsal
	buffer  []Line
	changes []rowCount
	rows    int // at the last change that has been counted in
	brakes  []Brake
	held    map[rule.ID]bool // first emails that the brake holds: nothing follows them
	replays
}

// rowCount is one more row, or one fewer.
type rowCount struct {
	at time.Time
	by int
}

// count notes when a row is there.
func (f *Merge) count(l *Course) {
	if l.start != nil {
		if from := f.r.From.Add(-Tick); len(f.changes) > 0 && f.changes[0].at.Equal(from) {
			f.changes[0].by++ // the many that are there from the start
		} else {
			f.changes = append([]rowCount{{from, 1}}, f.changes...)
		}
	}
	for _, e := range l.edits {
		switch {
		case e.Add:
			f.changes = append(f.changes, rowCount{e.At, 1})
		case e.Delete:
			f.changes = append(f.changes, rowCount{e.At, -1})
		}
	}
}

// rowsAt counts the sheet's rows at an instant; instants come in order.
func (f *Merge) rowsAt(at time.Time) int {
	for len(f.changes) > 0 && !f.changes[0].at.After(at) {
		f.rows += f.changes[0].by
		f.changes = f.changes[1:]
	}
	return f.rows
}

// Line takes the next line in order and hands on what is finished.
func (f *Merge) Line(l *Line, emit func(*Line) error) error {
	for {
		next := f.next(l)
		if next == nil {
			return nil
		}
		if len(f.buffer) > 0 && !f.buffer[0].At.Equal(next.At) {
			if err := f.instant(emit); err != nil {
				return err
			}
			continue // a row that was played again may have something before it
		}
		if next != l {
			heap.Pop(&f.ahead)
		}
		if !f.stale(next) {
			f.buffer = append(f.buffer, *next)
		}
		if next == l {
			return nil
		}
	}
}

// Flush hands on all that is left.
func (f *Merge) Flush(emit func(*Line) error) error {
	for len(f.buffer) > 0 || len(f.ahead) > 0 {
		if err := f.Line(nil, emit); err != nil {
			return err
		}
		if err := f.instant(emit); err != nil {
			return err
		}
	}
	return nil
}

// instant hands on the lines of one instant.
func (f *Merge) instant(emit func(*Line) error) error {
	lines := f.sameWords(f.roundUps(f.buffer))
	f.brake(lines)
	for i := range lines {
		if f.held[lines[i].Follows] {
			continue
		}
		if err := emit(&lines[i]); err != nil {
			return err
		}
	}
	f.buffer = f.buffer[:0]
	return nil
}

// roundUps puts the pieces of one instant together, by rule, round and
// recipient. A round-up stands where its first row would.
func (f *Merge) roundUps(lines []Line) []Line {
	if !slices.ContainsFunc(lines, func(l Line) bool { return l.Piece != nil }) {
		return lines
	}
	type key struct {
		rule        int
		round, whom string
	}
	type group struct {
		first Line
		ps    []piece
		names []string
		rows  []*sheet.Row // where words are compared
	}
	groups := map[key]*group{}
	var order []key
	var out []Line
	for _, l := range lines {
		p := l.Piece
		if p == nil {
			out = append(out, l)
			continue
		}
		k := key{l.Rule, p.Round.Instant, p.To.Key()}
		g := groups[k]
		if g == nil {
			g = &group{first: l}
			groups[k] = g
			order = append(order, k)
		}
		g.ps = append(g.ps, piece{to: []value.Mailbox{p.To}, cc: p.Cc, bcc: p.Bcc, replyTo: p.ReplyTo, subject: p.Subject,
			outside: p.Outside,
			missing: p.Missing, silent: p.Silent})
		g.names = append(g.names, p.Name)
		if p.Of != nil {
			g.rows = append(g.rows, p.Of)
		}
	}
	for _, k := range order {
		g := groups[k]
		s := f.r.Settings[k.rule]
		c := s.gather(g.first.Piece.Round, g.ps, g.names, g.first.At)
		l := g.first
		l.Piece, l.Row, l.Rows, l.Mailbox = nil, "", g.names, c.Mailbox
		l.Occasion = c.Identity()
		l.Whole, l.Outcome, l.Reason = l.Occasion, c.Outcome, c.Decision.Reason.Words()
		if c.Outcome != Skip {
			l.Template, l.To, l.Cc = c.Template, written(c.To), written(c.Cc)
		}
		if c.Outcome == Send || c.Outcome == Hold {
			l.Subject = c.Subject
			if g.rows != nil {
				l.Words = s.wordsOfRound(&c.Decision, g.rows, l.At)
			}
		}
		out = append(out, l)
	}
	slices.SortStableFunc(out, func(a, b Line) int { return Compare(&a, &b) })
	return out
}

// brake counts each rule's emails from reactions of one instant before it
// decides on any.
func (f *Merge) brake(lines []Line) {
	counts := map[int]int{}
	for i := range lines {
		if l := &lines[i]; l.Reaction && (l.Outcome == Send || l.Outcome == Hold) {
			counts[l.Rule]++
		}
	}
	for k, n := range counts {
		if !f.brakes[k].Holds(lines[0].At, n, f.rowsAt(lines[0].At)) {
			continue
		}
		for i := range lines {
			if l := &lines[i]; l.Rule == k && l.Reaction && l.Outcome == Send {
				l.Outcome = Hold
				l.Reason += "; held by the brake"
				f.held[l.Occasion], f.held[l.Whole] = true, true
			}
		}
	}
}
