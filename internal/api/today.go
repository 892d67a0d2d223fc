package api

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// Today's limits: how many needs and marks one page shows.
const (
	maxNeeds     = 40
	maxDayMarks  = 600
	weeksAround  = 4
	maxPastMarks = 400
	mostNeeds    = 500 // that are read, and shown together by rule
)

// GetToday implements StrictServerInterface.
func (s *Server) GetToday(ctx context.Context, _ GetTodayRequestObject) (GetTodayResponseObject, error) {
	now := s.e.Now()
	out := GetToday200JSONResponse{Now: now, Zone: s.Zone.String(), Lanes: []Lane{}, Marks: []Mark{}, Needs: []Need{}, Days: []DayBar{}, Notices: []Notice{}}
	rules, err := s.ruleNames(ctx, "")
	if err != nil {
		return nil, err
	}
	sheets, err := s.st.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	local := now.In(s.Zone)
	midnight := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, s.Zone)
	bars := newBars(midnight, s.Zone)
	people := map[string]bool{}
	nextPeople := map[string]bool{}
	for i := range sheets {
		lane := Lane{Sheet: sheets[i].Name, SheetId: sheets[i].ID, Marks: []Mark{}}
		f, err := s.e.Forecast(ctx, sheets[i].ID)
		if err != nil {
			return nil, err
		}
		out.Partial = out.Partial || f.Partial
		for k := range f.Coming {
			c := &f.Coming[k]
			bars.add(c.At, func(b *DayBar) { b.Coming++ })
			if c.Incomplete {
				continue
			}
			switch {
			case out.NextAt == nil || c.At.Before(*out.NextAt):
				at := c.At
				out.NextAt, nextPeople = &at, people0(c.To)
			case c.At.Equal(*out.NextAt):
				for p := range people0(c.To) {
					nextPeople[p] = true
				}
			}
			if c.At.Before(endOfDay(now, s.Zone)) {
				out.Coming++
				for p := range people0(c.To) {
					people[p] = true
				}
			}
		}
		for k := range f.Coming {
			if c := &f.Coming[k]; c.At.Before(endOfDay(now, s.Zone)) && len(lane.Marks) < maxDayMarks {
				lane.Marks = append(lane.Marks, comingMark(c, rules))
			}
		}
		past, err := s.st.Between(ctx, store.LogFilter{SheetID: sheets[i].ID, Since: utc(midnight), Until: utc(endOfDay(now, s.Zone))}, maxPastMarks)
		if err != nil {
			return nil, err
		}
		for k := range past {
			lane.Marks = append(lane.Marks, deliveryMark(&past[k], rules))
		}
		sort.SliceStable(lane.Marks, func(a, b int) bool { return lane.Marks[a].At.Before(lane.Marks[b].At) })
		if len(lane.Marks) > 0 {
			out.Lanes = append(out.Lanes, lane)
		}
	}
	out.People, out.NextPeople = len(people), len(nextPeople)
	if err := s.pastBars(ctx, bars, midnight); err != nil {
		return nil, err
	}
	out.Days = bars.days
	today := out.Days[bars.index[midnight.Format("2006-01-02")]]
	out.Out, out.Refused = today.Out, today.Bad
	if err := s.since(ctx, &out, local); err != nil {
		return nil, err
	}
	out.Doubled = []doubledNeed{}
	for i := range sheets {
		n, err := s.e.Doubled(ctx, &sheets[i])
		if err != nil {
			return nil, err
		}
		if n > 0 {
			out.Doubled = append(out.Doubled, doubledNeed{SheetId: sheets[i].ID, Sheet: sheets[i].Name, Key: sheets[i].KeyColumn, Rows: int(n)})
		}
	}
	if out.Unjudged, err = s.unjudgedNeeds(ctx, sheets); err != nil {
		return nil, err
	}
	if out.Broken, err = s.brokenRules(ctx, sheets); err != nil {
		return nil, err
	}
	if out.Sources, err = s.sourceNeeds(ctx, sheets); err != nil {
		return nil, err
	}
	if out.Needs, err = s.needs(ctx, sheets, rules); err != nil {
		return nil, err
	}
	if out.NeedsTotal, err = s.countNeeds(ctx, ""); err != nil {
		return nil, err
	}
	notices, err := s.notices(ctx)
	out.Notices = append(out.Notices, notices...)
	return out, err
}

// doubledNeed is a sheet with rows whose key another row had before them.
type doubledNeed = struct {
	Key     string `json:"key"`
	Rows    int    `json:"rows"`
	Sheet   string `json:"sheet"`
	SheetId string `json:"sheetId"` //nolint:revive // as the document's type has it
}

// unjudgedNeed is a sheet with rows that rules cannot judge.
type unjudgedNeed = struct {
	Letters []string `json:"letters"`
	Rows    int      `json:"rows"`
	Rule    *string  `json:"rule,omitempty"`
	Sheet   string   `json:"sheet"`
	SheetId string   `json:"sheetId"` //nolint:revive // as the document's type has it
}

// unjudgedNeeds lists the sheets whose rules cannot judge some rows, unless
// somebody has said of as many that it is meant so.
func (s *Server) unjudgedNeeds(ctx context.Context, sheets []store.Sheet) ([]unjudgedNeed, error) {
	out := []unjudgedNeed{}
	for i := range sheets {
		rows, rules, err := s.e.UnjudgedNews(ctx, sheets[i].ID)
		if err != nil {
			return nil, err
		}
		if len(rules) == 0 {
			continue
		}
		n := unjudgedNeed{SheetId: sheets[i].ID, Sheet: sheets[i].Name, Rows: rows, Letters: []string{}}
		for k := range rules {
			n.Letters = append(n.Letters, rules[k].Letter)
		}
		if len(rules) == 1 {
			n.Rule = &rules[0].ID
		}
		out = append(out, n)
	}
	return out, nil
}

// notices tells what keeps all emails from going.
func (s *Server) notices(ctx context.Context) (out []Notice, err error) {
	_, back, err := s.st.Lever(ctx)
	if err != nil {
		return nil, err
	}
	if !back.Until.IsZero() {
		held, err := s.st.CountHeld(ctx, reason.Restored)
		if err != nil {
			return nil, err
		}
		when := func(t time.Time) string { return t.In(s.Zone).Format("Mon 2 Jan 15:04") }
		out = append(out, Notice{Kind: NoticeKindWentBack, Since: &back.Since, Until: &back.Until, Held: &held, Rules: &back.Rules,
			Text: fmt.Sprintf("The database went back to %s. What was done between then and %s is not in it, and emails of that time may have gone already. All sending is off, and the rules that were on are paused.",
				when(back.Since), when(back.Until))})
	}
	wrong, err := s.e.WrongClocks(ctx)
	for _, w := range wrong {
		off := time.Duration(w.ClockOffMs) * time.Millisecond
		out = append(out, Notice{Kind: NoticeKindClock, Text: fmt.Sprintf("The clock of %s is %s off the database's. It sends nothing until they agree.", w.Name, off.Abs().Round(time.Second))})
	}
	return out, err
}

// LookedBack implements StrictServerInterface.
func (s *Server) LookedBack(ctx context.Context, _ LookedBackRequestObject) (LookedBackResponseObject, error) {
	return LookedBack204Response{}, s.e.LookedBack(ctx, person(ctx).Name)
}

func utc(t time.Time) *time.Time {
	u := t.UTC()
	return &u
}

func people0(to []string) map[string]bool {
	out := map[string]bool{}
	for _, a := range to {
		out[strings.ToLower(a)] = true
	}
	return out
}

// bars are the small bars of eight weeks, one a day.
type bars struct {
	days  []DayBar
	index map[string]int
	zone  *time.Location
}

// newBars begins on the Monday four weeks before this week's.
func newBars(midnight time.Time, zone *time.Location) *bars {
	b := &bars{index: map[string]int{}, zone: zone}
	back := (int(midnight.Weekday()) + 6) % 7
	start := midnight.AddDate(0, 0, -back-7*weeksAround)
	for i := 0; i < 7*2*weeksAround; i++ {
		d := start.AddDate(0, 0, i)
		day := d.Format("2006-01-02")
		b.index[day] = i
		b.days = append(b.days, DayBar{Day: day, Weekend: d.Weekday() == time.Saturday || d.Weekday() == time.Sunday})
	}
	return b
}

func (b *bars) add(t time.Time, f func(*DayBar)) {
	if i, ok := b.index[t.In(b.zone).Format("2006-01-02")]; ok {
		f(&b.days[i])
	}
}

// pastBars counts what went out and what was refused, day by day.
func (s *Server) pastBars(ctx context.Context, b *bars, midnight time.Time) error {
	rows, err := s.st.CountQuarters(ctx, store.LogFilter{Since: utc(midnight.AddDate(0, 0, -7*weeksAround-7)),
		States: []delivery.State{delivery.Accepted, delivery.Failed, delivery.Bounced}})
	for _, r := range rows {
		b.add(r.DueAt, func(d *DayBar) {
			if r.State == delivery.Accepted {
				d.Out += r.N
			} else {
				d.Bad += r.N
			}
		})
	}
	return err
}

// since counts what went out since the last working day's evening.
func (s *Server) since(ctx context.Context, out *GetToday200JSONResponse, local time.Time) error {
	back := 1
	for d := local.AddDate(0, 0, -1); d.Weekday() == time.Saturday || d.Weekday() == time.Sunday; d = d.AddDate(0, 0, -1) {
		back++
	}
	from := time.Date(local.Year(), local.Month(), local.Day()-back, 17, 0, 0, 0, s.Zone)
	out.SinceText = from.Weekday().String() + " evening"
	if back == 1 {
		out.SinceText = "yesterday evening"
	}
	counts, err := s.st.CountStates(ctx, store.LogFilter{Since: utc(from), States: []delivery.State{delivery.Accepted}})
	out.WentSince = int(counts[delivery.Accepted])
	return err
}

// needs lists what waits for somebody: in doubt first, then held, refused,
// incomplete and missed; held and missed ones by rule.
func (s *Server) needs(ctx context.Context, sheets []store.Sheet, rules map[string]store.Rule) ([]Need, error) {
	ds, err := s.st.Needing(ctx, mostNeeds)
	if err != nil {
		return nil, err
	}
	names, err := s.rowNames(ctx, sheets, ds)
	if err != nil {
		return nil, err
	}
	sheetNames := map[string]string{}
	for _, sh := range sheets {
		sheetNames[sh.ID] = sh.Name
	}
	out := []Need{}
	groups := map[string]int{}
	for i := range ds {
		d := &ds[i]
		name, known := sheetNames[d.SheetID]
		if !known {
			continue
		}
		key := ""
		if d.State == delivery.Held || d.State == delivery.Missed {
			key = string(d.State) + d.RuleID
		}
		if at, ok := groups[key]; ok && key != "" {
			n := &out[at]
			n.Count++
			n.Deliveries = append(n.Deliveries, store.RowID(d.ID))
			n.Title = needTitle(d, "", n.Count)
			continue
		}
		if len(out) == maxNeeds {
			break
		}
		row := store.RowID(d.RowID)
		n := Need{Kind: markKind(d.State), Letter: rules[d.RuleID].Letter, Sheet: name, SheetId: d.SheetID, Row: &row, Count: 1,
			Deliveries: []string{store.RowID(d.ID)}, Title: needTitle(d, names[d.RowID], 1), Text: s.needText(d, rules[d.RuleID].Name), Blame: d.Blame}
		n.Actions = needActions(d)
		if d.RuleID != "" {
			n.Rule = &d.RuleID
		}
		if n.Blame == "" && (d.State == delivery.Failed || d.State == delivery.Bounced) {
			by := rules[d.RuleID]
			if core, err := by.Core(); err == nil { // a rule that is not there any more says nothing
				n.Blame = rule.FirstColumn(core.To)
			}
		}
		if key != "" {
			groups[key] = len(out)
		}
		out = append(out, n)
	}
	return out, nil
}

func needTitle(d *store.Delivery, row string, n int) string {
	switch d.State {
	case delivery.Held:
		if n == 1 {
			return "1 email is held"
		}
		return fmt.Sprintf("%d emails are held", n)
	case delivery.Missed:
		if n == 1 {
			return "1 email was missed"
		}
		return fmt.Sprintf("%d emails were missed", n)
	}
	return row
}

func (s *Server) needText(d *store.Delivery, rule string) string {
	at := d.DueAt.In(s.Zone).Format("Mon 2 Jan 15:04")
	switch d.State {
	case delivery.InDoubt:
		return upperFirst(d.Trouble.Words()) + " (" + rule + ", " + at + ")."
	case delivery.Held:
		return rule + ", held since " + at + ": " + d.Reason.Words() + "."
	case delivery.Failed, delivery.Bounced:
		var who []string
		for _, r := range recipients(d) {
			if r.Role == "to" {
				who = append(who, r.Address)
			}
		}
		return strings.Join(who, ", ") + ": " + d.Trouble.Words() + "."
	case delivery.Incomplete:
		return upperFirst(d.Reason.Words()) + "; its email was due " + at + "."
	}
	return rule + ": " + d.Reason.Words() + "."
}

func needActions(d *store.Delivery) []string {
	switch d.State {
	case delivery.InDoubt:
		return []string{"it-went", "send-again"}
	case delivery.Failed, delivery.Bounced:
		return []string{"mend", "open"}
	case delivery.Incomplete:
		return []string{"mend"}
	}
	return []string{"open"}
}

// Search implements StrictServerInterface.
func (s *Server) Search(ctx context.Context, r SearchRequestObject) (SearchResponseObject, error) {
	out := Search200JSONResponse{}
	q := ""
	if r.Params.Q != nil {
		q = value.Fold(*r.Params.Q)
	}
	if q == "" {
		return out, nil
	}
	add := func(kind FoundKind, title, detail, path string) {
		out = append(out, Found{Kind: kind, Title: title, Detail: detail, Path: path})
	}
	has := func(text string) bool { return strings.Contains(value.Fold(text), q) }
	sheets, err := s.st.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	for i := range sheets {
		sh := &sheets[i]
		if has(sh.Name) {
			add(FoundKindSheet, sh.Name, "sheet", "/sheets/"+sh.ID)
		}
		rules, err := s.st.Rules(ctx, sh.ID)
		if err != nil {
			return nil, err
		}
		for _, x := range rules {
			if has(x.Name) {
				add(FoundKindRule, x.Letter+" "+x.Name, "rule of "+sh.Name, "/sheets/"+sh.ID+"/rules/"+x.ID)
			}
		}
		tpls, err := s.st.Templates(ctx, sh.ID)
		if err != nil {
			return nil, err
		}
		for _, x := range tpls {
			if has(x.Name) {
				add(FoundKindTemplate, x.Name, "template of "+sh.Name, "/templates/"+sh.ID+"/"+x.ID)
			}
		}
		if err := s.searchRows(ctx, sh, q, add); err != nil {
			return nil, err
		}
	}
	about, err := s.st.Log(ctx, store.LogFilter{Text: q}, "", 8)
	if err != nil {
		return nil, err
	}
	to, err := s.st.Log(ctx, store.LogFilter{To: q}, "", 8)
	if err != nil {
		return nil, err
	}
	lines, err := s.logLines(ctx, append(about.Lines, to.Lines...))
	seen := map[string]bool{}
	for _, l := range lines {
		if !seen[l.Id] {
			seen[l.Id] = true
			add(FoundKindEmail, l.Subject, l.To+", "+l.At.In(s.Zone).Format("2 Jan 15:04")+", "+l.Outcome, "/log?email="+l.Id)
		}
	}
	return out, err
}

// maxFoundRows is how many rows of a sheet a search shows.
const maxFoundRows = 6

func (s *Server) searchRows(ctx context.Context, rec *store.Sheet, q string, add func(FoundKind, string, string, string)) error {
	core, err := rec.Core()
	if err != nil {
		return err
	}
	ids, err := s.e.Find(ctx, rec.ID, q)
	if err != nil {
		return err
	}
	rows, err := s.st.RowsByID(ctx, rec.ID, ids[:min(len(ids), maxFoundRows)])
	if err != nil {
		return err
	}
	for i := range rows {
		row, err := rows[i].Core(core)
		if err != nil {
			return err
		}
		add(FoundKindRow, core.RowName(row), rec.Name, "/sheets/"+rec.ID+"?row="+row.ID)
	}
	return nil
}

// brokenRules lists the rules that are paused for want of something.
func (s *Server) brokenRules(ctx context.Context, sheets []store.Sheet) (*[]BrokenRule, error) {
	out := []BrokenRule{}
	for i := range sheets {
		rules, err := s.st.Rules(ctx, sheets[i].ID)
		if err != nil {
			return nil, err
		}
		for _, r := range rules {
			if r.Broken != "" {
				out = append(out, BrokenRule{Sheet: sheets[i].Name, SheetId: sheets[i].ID, Rule: r.ID, Letter: r.Letter, Name: r.Name, Broken: r.Broken})
			}
		}
	}
	return &out, nil
}
