package engine

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// Checked is what a template, saved or not, comes to over the rows of its sheet.
type Checked struct {
	Seen, All, Good int
	Found           []FoundCheck
	Variants        [][]int64 // the rows that get each of its texts
	warned          []int64   // rows with any check
}

// FoundCheck is one thing that may be wrong, with the rows that it is so for; none where it is
// so for the template as a whole.
type FoundCheck struct {
	template.Check
	Rows []int64
}

// Partial reports whether not all rows have been looked at.
func (c *Checked) Partial() bool { return c.Seen < c.All }

// reader looks at some of a sheet's rows as a template would write them, for one goroutine.
type reader struct {
	t        *template.Template
	sheet    *sheet.Sheet
	cal      calendar.Calendar
	now      time.Time
	today    value.Day
	decoder  *sheet.Decoder
	seen     int
	good     int
	found    map[string]*FoundCheck
	variants [][]int64
	warned   []int64
	people   template.Addresses
	most     int64 // how large a message the sender's mail server takes; 0: it does not say
}

func (r *reader) look(c *chunk, cells []value.Value) ([]value.Value, error) {
	address, _ := r.sheet.Column(r.sheet.Address)
	for i, id := range c.ids {
		var err error
		if cells, err = r.decoder.DecodeString(c.at(i), cells); err != nil {
			return cells, err
		}
		row := r.sheet.Compute(c.row(i, cells), r.now, r.cal)
		cx := template.Context{Sheet: r.sheet, Row: row, Today: r.today}
		checks := r.t.Row(cx)
		if r.most > 0 && r.t.Carries() {
			if sent := r.t.Render(cx); sent.Bytes() > r.most {
				checks = append(checks, template.Check{Code: template.OverServer, Value: megabytes(r.most)})
			}
		}
		for _, k := range checks {
			r.note(k, id)
		}
		if len(checks) == 0 {
			r.good++
		} else {
			r.warned = append(r.warned, id)
		}
		v := r.t.VariantOf(cx) - 1
		r.variants[v] = append(r.variants[v], id)
		if address != nil {
			r.people.Add(id, row.Cell(address))
		}
	}
	r.seen += len(c.ids)
	return cells, nil
}

func (r *reader) note(k template.Check, rows ...int64) {
	f := r.found[k.Key()]
	if f == nil {
		f = &FoundCheck{Check: k}
		r.found[k.Key()] = f
	}
	f.Rows = append(f.Rows, rows...)
}

// CheckTemplate looks through the rows of a sheet as a template, made ready with what it
// rests on, would write them. After the budget what is known by then is the answer; 0 is for
// all rows.
func (e *Engine) CheckTemplate(ctx context.Context, sheetID string, t *template.Template,
	budget time.Duration) (*Checked, error) {
	rec, err := e.Store.Sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	most, err := e.mostBytes(ctx, rec)
	if err != nil {
		return nil, err
	}
	key, err := e.checkKey(rec, t, most)
	if err != nil {
		return nil, err
	}
	if c := e.checked.find(key); c != nil {
		return c, nil
	}
	cal, err := CalendarOf(ctx, e.Store, rec)
	if err != nil {
		return nil, err
	}
	readers := make([]*reader, runtime.GOMAXPROCS(0))
	for i := range readers {
		if readers[i], err = e.newReader(rec, t, cal); err != nil {
			return nil, err
		}
		readers[i].most = most
	}
	if err := survey(ctx, e, rec, readers, deadlineOf(budget)); err != nil {
		return nil, err
	}
	out := readTogether(readers, t)
	out.All = int(rec.LiveRows)
	same, err := e.saySame(ctx, rec.ID, readers[0])
	if err != nil {
		return nil, err
	}
	if len(same) > 0 {
		out.Found = append(out.Found, FoundCheck{template.Check{Code: template.WordsDoubled,
			Column: rec.AddressColumn}, same})
	}
	if !out.Partial() {
		e.checked.keep(key, out)
	}
	return out, nil
}

// newReader makes a reader with a sheet and a template of its own.
func (e *Engine) newReader(rec *store.Sheet, t *template.Template, cal calendar.Calendar) (*reader, error) {
	own, err := t.Clone()
	if err != nil {
		return nil, err
	}
	s, err := rec.Core()
	if err != nil {
		return nil, err
	}
	own.Prepare(s)
	now := e.now()
	return &reader{t: own, sheet: s, cal: cal, now: now, today: value.DayAt(now.In(s.Zone)), decoder: s.Decoder(),
		found:    map[string]*FoundCheck{},
		variants: make([][]int64, 1+len(t.Variants))}, nil
}

// readTogether puts together what readers have found.
func readTogether(readers []*reader, t *template.Template) *Checked {
	first := readers[0]
	for _, r := range readers[1:] {
		first.seen, first.good = first.seen+r.seen, first.good+r.good
		for _, f := range r.found {
			first.note(f.Check, f.Rows...)
		}
		for i := range r.variants {
			first.variants[i] = append(first.variants[i], r.variants[i]...)
		}
		first.warned = append(first.warned, r.warned...)
		first.people.Merge(&r.people)
	}
	out := &Checked{Seen: first.seen, Good: first.good, Variants: first.variants, warned: first.warned}
	for _, k := range t.Whole(first.sheet) {
		out.Found = append(out.Found, FoundCheck{Check: k})
	}
	keys := make([]string, 0, len(first.found))
	for k := range first.found {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		out.Found = append(out.Found, *first.found[k])
	}
	checks, rows := first.people.Found(first.sheet.Address)
	for i, k := range checks {
		out.Found = append(out.Found, FoundCheck{k, rows[i]})
	}
	for i := range out.Found {
		slices.Sort(out.Found[i].Rows)
	}
	slices.Sort(out.warned)
	for _, v := range out.Variants {
		slices.Sort(v)
	}
	// What stops emails comes first, then what most rows have.
	slices.SortStableFunc(out.Found, func(a, b FoundCheck) int {
		switch {
		case a.Stops() && !b.Stops():
			return -1
		case b.Stops() && !a.Stops():
			return 1
		}
		return 0
	})
	return out
}

// mostBytes returns how large a message the mail server takes by which a sheet's emails go; 0 where it does not say,
// or has not been asked yet.
func (e *Engine) mostBytes(ctx context.Context, rec *store.Sheet) (int64, error) {
	sender, _, err := e.senderOf(ctx, rec)
	if err != nil || sender == nil {
		return 0, err
	}
	states, err := e.Store.SenderStates(ctx)
	return states[sender.ID].MostBytes, err
}

// MostBytes returns the same of a sheet by its id.
func (e *Engine) MostBytes(ctx context.Context, sheetID string) (int64, error) {
	rec, err := e.Store.Sheet(ctx, sheetID)
	if err != nil {
		return 0, err
	}
	return e.mostBytes(ctx, rec)
}

// megabytes says a size.
func megabytes(n int64) string { return fmt.Sprintf("%.1f MB", float64(n)/(1<<20)) }

// OverServer returns words for an email that is larger than the mail server takes; "" where it is not, or the
// server does not say.
func OverServer(sent *template.Rendered, most int64) string {
	if most == 0 || sent.Bytes() <= most {
		return ""
	}
	return fmt.Sprintf("about %s, and the sender’s mail server takes %s", megabytes(sent.Bytes()), megabytes(most))
}

// mostCompared bounds the rows of which a check writes whole letters, to compare what they say.
const mostCompared = 5000

// saySame lists the rows whose email says what another row's says, to the same people. r has looked at all rows.
func (e *Engine) saySame(ctx context.Context, sheetID string, r *reader) (same []int64, err error) {
	address, ok := r.sheet.Column(r.sheet.Address)
	shared := r.people.Shared()
	if !ok || len(shared) == 0 || len(shared) > mostCompared {
		return nil, nil
	}
	recs, err := e.Store.RowsByID(ctx, sheetID, shared)
	if err != nil {
		return nil, err
	}
	by := map[plan.Words][]int64{}
	for i := range recs {
		core, err := recs[i].Core(r.sheet)
		if err != nil {
			return nil, err
		}
		row := r.sheet.Compute(core, r.now, r.cal)
		to, err := value.ParseMailboxes(row.Cell(address).Str)
		if err != nil {
			continue
		}
		written := r.t.Render(template.Context{Sheet: r.sheet, Row: row, Today: r.today, To: to})
		w := plan.WordsOf(&plan.Decision{To: to, Rendered: written})
		by[w] = append(by[w], recs[i].ID)
	}
	for _, rows := range by {
		if len(rows) > 1 {
			same = append(same, rows...)
		}
	}
	slices.Sort(same)
	return same, nil
}

// checkKey names all that a template's checks rest on.
func (e *Engine) checkKey(rec *store.Sheet, t *template.Template, most int64) (string, error) {
	s, err := rec.Core()
	if err != nil {
		return "", err
	}
	b, err := json.Marshal(t)
	if err != nil {
		return "", err
	}
	pieces, from, shelf := t.RestsOn()
	rests, err := json.Marshal([]any{pieces, from, shelf})
	if err != nil {
		return "", err
	}
	h := sha256.New()
	fmt.Fprintln(h, rec.ID, most, rec.Version, rec.AddressColumn, value.DayAt(e.now().In(s.Zone)), len(b))
	h.Write(b)
	h.Write(rests)
	return string(h.Sum(nil)), nil
}

// checkedKeeper keeps what the templates that are being written came to last.
type checkedKeeper struct {
	mu   sync.Mutex
	keys []string            // guarded by mu; the latest last
	by   map[string]*Checked // guarded by mu
}

// maxChecked is how many answers are kept.
const maxChecked = 12

func (k *checkedKeeper) find(key string) *Checked {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.by[key]
}

func (k *checkedKeeper) keep(key string, c *Checked) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.by == nil {
		k.by = map[string]*Checked{}
	}
	if k.by[key] == nil {
		k.keys = append(k.keys, key)
	}
	k.by[key] = c
	if len(k.keys) > maxChecked {
		delete(k.by, k.keys[0])
		k.keys = k.keys[1:]
	}
}

// Leafing says which rows a template is leafed through: all, or those for which all holds that
// is said.
type Leafing struct {
	Warned  bool   // something may be wrong
	Check   string // the key of what may be wrong
	Variant *int   // they get this text of it, 0 being its own
	Rule    string // they meet this rule's conditions
	View    string // they are in this view
}

// Leaf gives the ids of the rows that a template is leafed through, in the sheet's order.
func (e *Engine) Leaf(ctx context.Context, sheetID string, t *template.Template, l Leafing) ([]int64, error) {
	spec, err := e.leafSpec(ctx, sheetID, l)
	if err != nil {
		return nil, err
	}
	ids, err := e.View(ctx, sheetID, spec)
	if err != nil || !l.Warned && l.Check == "" && l.Variant == nil {
		return ids, err
	}
	c, err := e.CheckTemplate(ctx, sheetID, t, 0)
	if err != nil {
		return nil, err
	}
	var only [][]int64
	if l.Warned {
		only = append(only, c.warned)
	}
	if l.Check != "" {
		i := slices.IndexFunc(c.Found, func(f FoundCheck) bool { return f.Key() == l.Check })
		if i < 0 {
			return nil, nil
		}
		only = append(only, c.Found[i].Rows)
	}
	if l.Variant != nil {
		if *l.Variant < 0 || *l.Variant >= len(c.Variants) {
			return nil, nil
		}
		only = append(only, c.Variants[*l.Variant])
	}
	out := make([]int64, 0, len(only[0]))
	for _, id := range ids {
		in := true
		for _, list := range only {
			_, found := slices.BinarySearch(list, id)
			in = in && found
		}
		if in {
			out = append(out, id)
		}
	}
	return out, nil
}

// leafSpec gives what is said of the rows apart from the template.
func (e *Engine) leafSpec(ctx context.Context, sheetID string, l Leafing) (ViewSpec, error) {
	var spec ViewSpec
	if l.View != "" {
		v, err := e.Store.View(ctx, l.View)
		if err != nil {
			return spec, err
		}
		if v.SheetID != sheetID {
			return spec, store.ErrNotFound
		}
		if err := json.Unmarshal([]byte(v.Spec), &spec); err != nil {
			return spec, err
		}
		spec.Sort = nil
	}
	if l.Rule != "" {
		r, err := e.Store.Rule(ctx, l.Rule)
		if err != nil {
			return spec, err
		}
		if r.SheetID != sheetID {
			return spec, store.ErrNotFound
		}
		core, err := r.Core()
		if err != nil {
			return spec, err
		}
		switch {
		case core.Condition == nil:
		case spec.Filter == nil:
			spec.Filter = core.Condition
		default:
			both := rule.AllOf(*spec.Filter, *core.Condition)
			spec.Filter = &both
		}
	}
	return spec, nil
}
