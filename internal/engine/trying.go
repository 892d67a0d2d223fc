package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"

	"nivot/internal/core/calendar"
	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// maxPicked is how many rows are picked to try a template.
const maxPicked = 12

// Picked is a row that shows something of a template's emails which the others picked do not.
type Picked struct {
	Row int64
	Why []string
}

// picker looks for the first row that shows each trait, for one goroutine.
type picker struct {
	*reader
	first   map[template.Trait]int64
	longest struct {
		row    int64
		length int
	}
}

func (p *picker) look(c *chunk, cells []value.Value) ([]value.Value, error) {
	for i, id := range c.ids {
		var err error
		if cells, err = p.decoder.DecodeString(c.at(i), cells); err != nil {
			return cells, err
		}
		if c.gone[i] {
			continue
		}
		row := p.sheet.Compute(c.row(i, cells), p.now, p.cal)
		traits, length := p.t.Traits(template.Context{Sheet: p.sheet, Row: row, Today: p.today})
		for _, t := range traits {
			if have, ok := p.first[t]; !ok || id < have {
				p.first[t] = id
			}
		}
		if length > p.longest.length || length == p.longest.length && length > 0 && id < p.longest.row {
			p.longest.row, p.longest.length = id, length
		}
	}
	p.seen += len(c.ids)
	return cells, nil
}

// Differing picks rows by what is different in their emails: one of each language, of each part
// shown and not shown, of each field that is empty, and the one with the longest values; as few
// rows as show it all.
func (e *Engine) Differing(ctx context.Context, sheetID string, t *template.Template) ([]Picked, error) {
	rec, err := e.Store.Sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	cal, err := CalendarOf(ctx, e.Store, rec)
	if err != nil {
		return nil, err
	}
	pickers := make([]*picker, runtime.GOMAXPROCS(0))
	for i := range pickers {
		r, err := e.newReader(rec, t, cal)
		if err != nil {
			return nil, err
		}
		pickers[i] = &picker{reader: r, first: map[template.Trait]int64{}}
	}
	if err := survey(ctx, e, rec, pickers, deadlineOf(0)); err != nil {
		return nil, err
	}
	all := pickers[0]
	for _, p := range pickers[1:] {
		for t, id := range p.first {
			if have, ok := all.first[t]; !ok || id < have {
				all.first[t] = id
			}
		}
		if p.longest.length > all.longest.length || p.longest.length == all.longest.length && p.longest.length > 0 &&
			p.longest.row < all.longest.row {
			all.longest = p.longest
		}
	}
	if all.longest.length > 0 {
		all.first[template.Trait{Kind: template.Longest}] = all.longest.row
	}
	return e.fewest(ctx, all, cal)
}

// fewest chooses rows until every trait is shown.
func (e *Engine) fewest(ctx context.Context, p *picker, cal calendar.Calendar) ([]Picked, error) {
	traits := make([]template.Trait, 0, len(p.first))
	for t := range p.first {
		traits = append(traits, t)
	}
	slices.SortFunc(traits, func(a, b template.Trait) int {
		return cmp.Or(cmp.Compare(slices.Index(template.TraitKinds, a.Kind), slices.Index(template.TraitKinds, b.Kind)),
			cmp.Compare(a.Text, b.Text),
			cmp.Compare(a.Part, b.Part), cmp.Compare(a.Column, b.Column))
	})
	shown := map[template.Trait]bool{}
	var out []Picked
	for _, t := range traits {
		if shown[t] || len(out) == maxPicked {
			continue
		}
		rec, err := e.Store.Row(ctx, p.first[t])
		if err != nil {
			return nil, err
		}
		row, err := rec.Core(p.sheet)
		if err != nil {
			return nil, err
		}
		c := template.Context{Sheet: p.sheet, Row: p.sheet.Compute(row, p.now, cal), Today: p.today}
		its, _ := p.t.Traits(c)
		if p.first[template.Trait{Kind: template.Longest}] == rec.ID {
			its = append(its, template.Trait{Kind: template.Longest})
		}
		x := Picked{Row: rec.ID}
		for _, o := range its {
			if !shown[o] {
				x.Why = append(x.Why, p.t.TraitWords(o, c))
			}
			shown[o] = true
		}
		out = append(out, x)
	}
	return out, nil
}

// Worded is a row that is written to in the words of a template.
type Worded struct {
	Row      int64
	Template string
}

// Wordings picks a row for each template in whose words a rule writes: the first that would have
// it; of a template of a follow-up, or of one date, the first that the rule writes to at all.
func (e *Engine) Wordings(ctx context.Context, sheetID, ruleID string) ([]Worded, error) {
	sb, err := newRuleCache(e.Store).sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	rb := sb.rule(ruleID)
	if rb == nil {
		return nil, store.ErrNotFound
	}
	set, now := rb.compiled, e.now()
	var chosen []string // by a condition
	for _, w := range set.Rule.Send {
		chosen = append(chosen, w.Template)
	}
	first := map[string]int64{}
	all := set.Rule.Templates()
	decoder := sb.sheet.Decoder()
	enough := errors.New("every template has its row")
	err = e.Store.StreamRows(ctx, sheetID, func(id, number int64, gone bool, packed []byte) error {
		cells, err := decoder.Decode(packed, nil)
		if err != nil || gone {
			return err
		}
		own := set.WordingOf(&sheet.Row{ID: store.RowID(id), Number: number, Cells: cells}, now, plan.Memory{})
		if own == "" {
			return nil
		}
		for _, t := range all {
			if _, ok := first[t]; !ok && (t == own || !slices.Contains(chosen, t)) {
				first[t] = id
			}
		}
		if len(first) == len(all) {
			return enough
		}
		return nil
	})
	if err != nil && !errors.Is(err, enough) {
		return nil, err
	}
	var out []Worded
	for _, t := range all {
		if id, ok := first[t]; ok {
			out = append(out, Worded{id, t})
		}
	}
	return out, nil
}

// Trial is a template that is sent to colleagues to be looked at.
type Trial struct {
	Sheet    *store.Sheet
	Template *template.Template // made ready with what it rests on; without an id where it was never saved
	Row      int64
	Why      []string // why the row was picked, where it was
	To       []store.Person
	By       *store.Person
}

// Test sends one row's email to colleagues and nobody else, marked as a test. It is no occasion
// and stands in no ledger; the log shows it apart.
func (e *Engine) Test(ctx context.Context, t Trial) (*store.TestEmail, error) {
	core, err := t.Sheet.Core()
	if err != nil {
		return nil, err
	}
	if err := t.Template.Validate(core); err != nil {
		return nil, templateRefusal(err)
	}
	rec, err := e.Store.Row(ctx, t.Row)
	if err != nil {
		return nil, err
	}
	if rec.SheetID != t.Sheet.ID {
		return nil, store.ErrNotFound
	}
	row, err := rec.Core(core)
	if err != nil {
		return nil, err
	}
	computed, err := e.Computed(ctx, core)
	if err != nil {
		return nil, err
	}
	row = computed(row)
	var to []value.Mailbox
	for _, p := range t.To {
		boxes, err := value.ParseMailboxes(p.Email)
		if err != nil || len(boxes) != 1 {
			return nil, refuse("the address of %s cannot be used", p.Name)
		}
		boxes[0].Name = p.Name
		to = append(to, boxes[0])
	}
	now := e.now()
	rendered := t.Template.Render(template.Context{Sheet: core, Row: row, Today: value.DayAt(now.In(core.Zone)),
		Note: t.note(core.RowName(row))})
	if err := writeMade(ctx, e.Store, &rendered, now); err != nil {
		return nil, err
	}
	stop := strings.NewReplacer(template.OptOutMark, e.opts.PublicURL+OptOutPath+TestToken)
	rendered.Text, rendered.HTML = stop.Replace(rendered.Text), stop.Replace(rendered.HTML)
	letter := store.NewLetter(&rendered)
	letter.By = store.Wording{} // it says that it is a test: it is no measure for others
	out := &store.TestEmail{SheetID: t.Sheet.ID, TemplateID: t.Template.ID, TemplateName: t.Template.Name,
		Version: t.Template.Version, RowID: t.Row, RowName: core.RowName(row),
		Why: strings.Join(t.Why, "; "), SentBy: t.By.Name, SentAt: now, Subject: "Test: " + rendered.Subject,
		SenderID: t.Sheet.SenderID}
	for _, b := range to {
		out.Recipients = append(out.Recipients, b.String())
	}
	if out.IdentityID, err = e.identity(ctx, e.Store, t.Sheet.SenderID); err != nil {
		return nil, err
	}
	out.MessageID = delivery.MessageID("test-"+store.NewID(), 1, "nivot.invalid")
	m, err := e.TestMessage(ctx, out, letter)
	if err != nil {
		return nil, err
	}
	if err := e.SendOne(ctx, t.Sheet.SenderID, m, out.MessageID); err != nil {
		return nil, refuse("the test email could not be sent: %s", err)
	}
	out.MessageID = m.MessageID
	return out, e.Store.AddTestEmail(ctx, out, letter)
}

// TestToken stands in the unsubscribe links of tests: they stop nothing.
const TestToken = "test"

func (t *Trial) note(row string) string {
	whom := "you alone"
	if len(t.To) != 1 || t.To[0].ID != t.By.ID {
		var names []string
		for _, p := range t.To {
			names = append(names, p.Name)
		}
		whom = strings.Join(names, ", ") + " by " + t.By.Name
	}
	note := fmt.Sprintf("This is a test of “%s” for row %s, sent to %s.", t.Template.Name, row, whom)
	if len(t.Why) > 0 {
		note += " It shows: " + strings.Join(t.Why, "; ") + "."
	}
	return note
}

// TestMessage makes the message of a test email. Made again it is the same to the byte.
func (e *Engine) TestMessage(ctx context.Context, t *store.TestEmail, letter *store.Letter) (*mail.Message, error) {
	from, _, _, err := e.From(ctx, &store.Delivery{IdentityID: t.IdentityID, SenderID: t.SenderID})
	if err != nil {
		return nil, err
	}
	m := &mail.Message{From: from, Subject: t.Subject, Date: t.SentAt, Text: letter.Text, HTML: letter.HTML,
		MessageID: t.MessageID}
	for _, r := range t.Recipients {
		boxes, err := value.ParseMailboxes(r)
		if err != nil {
			return nil, err
		}
		m.To = append(m.To, boxes...)
	}
	m.Files, err = e.Carried(ctx, letter)
	return m, err
}
