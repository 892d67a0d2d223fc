package engine

import (
	"context"
	"fmt"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"nivot/internal/core/calendar"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// ruleCache is what one piece of work reads of sheets, rules and lists: each once.
type ruleCache struct {
	s        *store.Store
	shared   *sheetCache // what others have read; nil where it is to be changed, or read once
	sheets   map[string]*cachedSheet
	silenced map[string]bool // keys of the do-not-email list; not to be changed
}

// sheetCache is what a process has read of sheets, rules and letters, for as long as their stamps
// stand. What is in it is not changed, and many work with twins of it at the same time.
type sheetCache = lru.Cache[string, stampedSheet]

// stampedSheet is a sheet as it is under a stamp.
type stampedSheet struct {
	stamp string
	sheet *cachedSheet
}

// keptSheets bounds how many sheets a process keeps.
const keptSheets = 256

func newSheetCache() *sheetCache {
	c, _ := lru.New[string, stampedSheet](keptSheets) // which fails for no positive size
	return c
}

// cachedSheet is a sheet and what hangs on it. Of its record and those of its rules what counts up by
// itself may be older: versions, how many rows there are, since when the brake holds.
type cachedSheet struct {
	record    *store.Sheet
	sheet     *sheet.Sheet
	calendar  calendar.Calendar
	rules     []*cachedRule
	templates map[string]*template.Template
	shelf     template.Shelf
}

type cachedRule struct {
	record   *store.Rule
	compiled *plan.CompiledRule
}

// baseline is since when the rule counts; before it was switched on, for ever.
func (rb *cachedRule) baseline() time.Time {
	if rb.record.BaselineAt == nil {
		return time.Time{}.Add(time.Hour)
	}
	return *rb.record.BaselineAt
}

func newRuleCache(s *store.Store) *ruleCache {
	return &ruleCache{s: s, sheets: map[string]*cachedSheet{}}
}

// reading is for who reads alone, and needs of a sheet nothing that counts up by itself.
func (e *Engine) reading() *ruleCache {
	b := newRuleCache(e.Store)
	b.shared = e.sheets
	return b
}

// CoreSheet gives a sheet as the core has it, which is not to be changed.
func (e *Engine) CoreSheet(ctx context.Context, id string) (*sheet.Sheet, error) {
	if sb, err := e.reading().sheet(ctx, id); err == nil {
		return sb.sheet, nil
	}
	rec, err := e.Store.Sheet(ctx, id) // one of whose rules or letters cannot be read
	if err != nil {
		return nil, err
	}
	return rec.Core()
}

func (b *ruleCache) common(ctx context.Context) error {
	if b.silenced != nil {
		return nil
	}
	var err error
	b.silenced, err = b.s.Silenced(ctx)
	return err
}

// sheet gives a sheet with its rules and templates. A rule that cannot be read
// any more fails by name; it must not silence the others' errors.
func (b *ruleCache) sheet(ctx context.Context, id string) (*cachedSheet, error) {
	if sb, ok := b.sheets[id]; ok {
		return sb, nil
	}
	var stamp string
	if b.shared != nil { // the stamp first: what is newer than its stamp is read again, what is older never
		var err error
		if stamp, err = b.s.Stamp(ctx, id); err != nil {
			return nil, err
		}
		if kept, ok := b.shared.Get(id); ok && stamp != "" && kept.stamp == stamp {
			sb, err := kept.sheet.twin()
			if err == nil {
				b.sheets[id] = sb
			}
			return sb, err
		}
	}
	if err := b.common(ctx); err != nil {
		return nil, err
	}
	rec, err := b.s.Sheet(ctx, id)
	if err != nil {
		return nil, err
	}
	sb := &cachedSheet{record: rec, templates: map[string]*template.Template{}}
	if sb.sheet, err = rec.Core(); err != nil {
		return nil, err
	}
	if sb.calendar, err = CalendarOf(ctx, b.s, rec); err != nil {
		return nil, err
	}
	tpls, err := b.s.Templates(ctx, id)
	if err != nil {
		return nil, err
	}
	rests, err := RestsOn(ctx, b.s, rec)
	if err != nil {
		return nil, err
	}
	sb.shelf = rests.Shelf
	for i := range tpls {
		t, err := tpls[i].Core()
		if err != nil {
			return nil, err
		}
		t.Use(rests)
		t.Prepare(sb.sheet)
		sb.templates[t.ID] = t
	}
	rules, err := b.s.Rules(ctx, id)
	if err != nil {
		return nil, err
	}
	for i := range rules {
		core, err := rules[i].Core()
		if err != nil {
			return nil, err
		}
		set, err := b.compile(sb, core)
		if err != nil {
			return nil, fmt.Errorf("rule %s: %w", rules[i].Name, err)
		}
		sb.rules = append(sb.rules, &cachedRule{&rules[i], set})
	}
	if stamp != "" {
		b.shared.Add(id, stampedSheet{stamp, sb})
		if sb, err = sb.twin(); err != nil {
			return nil, err
		}
	}
	b.sheets[id] = sb
	return sb, nil
}

// twin gives the same sheet for another piece of work, whose rules are its own.
func (sb *cachedSheet) twin() (*cachedSheet, error) {
	own := *sb
	own.rules = make([]*cachedRule, len(sb.rules))
	for i, rb := range sb.rules {
		compiled, err := rb.compiled.Twin()
		if err != nil {
			return nil, err
		}
		own.rules[i] = &cachedRule{rb.record, compiled}
	}
	return &own, nil
}

func (b *ruleCache) compile(sb *cachedSheet, r *rule.Rule) (*plan.CompiledRule, error) {
	silenced := b.silenced
	return plan.Compile(sb.sheet, r, sb.templates, sb.calendar, func(key string) bool { return silenced[key] })
}

// historyOf gives the rule whose history a rule has taken over, "" for none.
func (b *ruleCache) historyOf(id string) string {
	for _, sb := range b.sheets {
		if rb := sb.rule(id); rb != nil {
			return rb.record.HistoryOf
		}
	}
	return ""
}

func (sb *cachedSheet) rule(id string) *cachedRule {
	for _, r := range sb.rules {
		if r.record.ID == id {
			return r
		}
	}
	return nil
}

// Computed gives what works a sheet's formulas out for a row, as of now.
func (e *Engine) Computed(ctx context.Context, s *sheet.Sheet) (func(*sheet.Row) *sheet.Row, error) {
	if !s.HasFormulas() {
		return func(r *sheet.Row) *sheet.Row { return r }, nil
	}
	c, err := e.calendarOf(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	now := e.now()
	return func(r *sheet.Row) *sheet.Row { return s.Compute(r, now, c) }, nil
}

// CoreShelf gives the files of a sheet as the core has them, which are not to be changed.
func (e *Engine) CoreShelf(ctx context.Context, id string) (template.Shelf, error) {
	if sb, err := e.reading().sheet(ctx, id); err == nil {
		return sb.shelf, nil
	}
	return e.Store.CoreShelf(ctx, id)
}

func (e *Engine) calendarOf(ctx context.Context, id string) (calendar.Calendar, error) {
	if sb, err := e.reading().sheet(ctx, id); err == nil {
		return sb.calendar, nil
	}
	rec, err := e.Store.Sheet(ctx, id)
	if err != nil {
		return calendar.Calendar{}, err
	}
	return CalendarOf(ctx, e.Store, rec)
}

// CompiledRule gives what a rule of a sheet, saved or a draft, is judged with.
func (e *Engine) CompiledRule(ctx context.Context, sheetID string, r *rule.Rule) (*plan.CompiledRule, error) {
	b := newRuleCache(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	return b.compile(sb, r)
}

// CompiledRules gives the settings of a sheet's rules that are on, with their
// records, in the order of their letters.
func (e *Engine) CompiledRules(ctx context.Context,
	sheetID string) (*sheet.Sheet, []*plan.CompiledRule, []*store.Rule, error) {
	sb, err := newRuleCache(e.Store).sheet(ctx, sheetID)
	if err != nil {
		return nil, nil, nil, err
	}
	var settings []*plan.CompiledRule
	var records []*store.Rule
	for _, r := range sb.rules {
		if r.record.State == rule.On {
			settings, records = append(settings, r.compiled), append(records, r.record)
		}
	}
	return sb.sheet, settings, records, nil
}

// rowKey is the key of a row as the index holds it: folded, and shortened
// where it is longer than the index takes.
func rowKey(s *sheet.Sheet, row *sheet.Row) []byte {
	c, ok := s.Column(s.Key)
	if !ok {
		return nil
	}
	return foldedKey(s.Show(c, row.Cell(c)))
}

func foldedKey(text string) []byte {
	k := value.Fold(text)
	if k == "" {
		return nil
	}
	if len(k) > 200 {
		k = k[:160] + fmt.Sprintf("#%x", store.HashToken(k))
	}
	return []byte(k)
}

// RestsOn loads what the letters of a sheet rest on: the pieces of text, who the sheet's
// emails are from, and the files that its rows name.
func RestsOn(ctx context.Context, s *store.Store, sheet *store.Sheet) (template.Rests, error) {
	out := template.Rests{Pieces: map[string]*template.Piece{}}
	list, err := s.Pieces(ctx)
	if err != nil {
		return out, err
	}
	for i := range list {
		if out.Pieces[list[i].ID], err = list[i].Core(); err != nil {
			return out, err
		}
	}
	if out.From, err = FromOf(ctx, s, sheet); err != nil {
		return out, err
	}
	out.Shelf, err = s.CoreShelf(ctx, sheet.ID)
	return out, err
}

// FromOf gives who a sheet's emails are from.
func FromOf(ctx context.Context, s *store.Store, sheet *store.Sheet) (from template.From, err error) {
	senders, err := s.Senders(ctx)
	if err != nil {
		return from, err
	}
	for i := range senders {
		x := &senders[i]
		if sheet.SenderID != "" && sheet.SenderID != x.ID {
			continue
		}
		from.Address = x.Address
		if from.Name = x.Name; x.Name == "" {
			from.Name = x.Address
		}
		from.Signature, err = x.Signs()
		break
	}
	return from, err
}
