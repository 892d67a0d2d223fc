package api

import (
	"context"
	"sort"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"nivot/internal/core/delivery"
	"nivot/internal/engine"
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

// dayPage is Today while it is made: what comes and what went, sheet by sheet.
type dayPage struct {
	s                  *Server
	out                GetToday200JSONResponse
	now, midnight      time.Time
	rules              map[string]store.Rule
	bars               *bars
	people, nextPeople map[string]bool // whom the rest of the day's, and the next, emails go to
}

// GetToday implements StrictServerInterface.
func (s *Server) GetToday(ctx context.Context, _ GetTodayRequestObject) (GetTodayResponseObject, error) {
	now := s.e.Now()
	local := now.In(s.Zone)
	d := &dayPage{s: s, now: now, midnight: time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, s.Zone),
		people: map[string]bool{}, nextPeople: map[string]bool{},
		out: GetToday200JSONResponse{Now: now, Zone: s.Zone.String(), Lanes: []Lane{}, Marks: []Mark{}, Needs: []Need{},
			Days: []DayBar{}, Notices: []Notice{}, Doubled: []doubledNeed{}}}
	d.bars = newBars(d.midnight, s.Zone)
	var err error
	if d.rules, err = s.ruleNames(ctx, ""); err != nil {
		return nil, err
	}
	sheets, err := s.st.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	found, err := d.daysOf(ctx, sheets)
	if err != nil {
		return nil, err
	}
	for i := range sheets {
		d.lane(&sheets[i], found[i])
	}
	out := &d.out
	out.People, out.NextPeople = len(d.people), len(d.nextPeople)
	if err := s.pastBars(ctx, d.bars, d.midnight); err != nil {
		return nil, err
	}
	out.Days = d.bars.days
	today := out.Days[d.bars.index[d.midnight.Format("2006-01-02")]]
	out.Out, out.Refused = today.Out, today.Bad
	if err := s.since(ctx, out, local); err != nil {
		return nil, err
	}
	if err := d.needs(ctx, sheets); err != nil {
		return nil, err
	}
	notices, err := s.notices(ctx)
	out.Notices = append(out.Notices, notices...)
	return *out, err
}

// sheetDay is what comes of a sheet, and what went today.
type sheetDay struct {
	coming *engine.Forecast
	past   []store.Delivery
}

// daysOf asks what comes and what went today, of some sheets at the same time.
func (d *dayPage) daysOf(ctx context.Context, sheets []store.Sheet) ([]sheetDay, error) {
	out := make([]sheetDay, len(sheets))
	today := store.LogFilter{Since: utc(d.midnight), Until: utc(endOfDay(d.now, d.s.Zone))}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(sideBySide)
	for i := range sheets {
		g.Go(func() (err error) {
			if out[i].coming, err = d.s.e.Forecast(ctx, sheets[i].ID); err != nil {
				return err
			}
			own := today
			own.SheetID = sheets[i].ID
			out[i].past, err = d.s.st.Between(ctx, own, maxPastMarks)
			return err
		})
	}
	return out, g.Wait()
}

// lane takes up what comes and what went today of a sheet.
func (d *dayPage) lane(sheet *store.Sheet, day sheetDay) {
	end := endOfDay(d.now, d.s.Zone)
	lane := Lane{Sheet: sheet.Name, SheetId: sheet.ID, Marks: []Mark{}}
	d.out.Partial = d.out.Partial || day.coming.Partial
	for k := range day.coming.Coming {
		c := &day.coming.Coming[k]
		d.comes(c)
		if c.At.Before(end) && len(lane.Marks) < maxDayMarks {
			lane.Marks = append(lane.Marks, comingMark(c, d.rules))
		}
	}
	for k := range day.past {
		lane.Marks = append(lane.Marks, deliveryMark(&day.past[k], d.rules))
	}
	sort.SliceStable(lane.Marks, func(a, b int) bool { return lane.Marks[a].At.Before(lane.Marks[b].At) })
	if len(lane.Marks) > 0 {
		d.out.Lanes = append(d.out.Lanes, lane)
	}
}

// comes counts an email that is to come.
func (d *dayPage) comes(c *engine.Coming) {
	d.bars.add(c.At, func(b *DayBar) { b.Coming++ })
	if c.Incomplete {
		return
	}
	switch {
	case d.out.NextAt == nil || c.At.Before(*d.out.NextAt):
		at := c.At
		d.out.NextAt, d.nextPeople = &at, people0(c.To)
	case c.At.Equal(*d.out.NextAt):
		for p := range people0(c.To) {
			d.nextPeople[p] = true
		}
	}
	if c.At.Before(endOfDay(d.now, d.s.Zone)) {
		d.out.Coming++
		for p := range people0(c.To) {
			d.people[p] = true
		}
	}
}

// needs gathers what needs somebody.
func (d *dayPage) needs(ctx context.Context, sheets []store.Sheet) (err error) {
	out, s := &d.out, d.s
	for i := range sheets {
		n, err := s.e.Doubled(ctx, &sheets[i])
		if err != nil {
			return err
		}
		if n > 0 {
			out.Doubled = append(out.Doubled, doubledNeed{SheetId: sheets[i].ID, Sheet: sheets[i].Name,
				Key: sheets[i].KeyColumn, Rows: int(n)})
		}
	}
	if out.Unjudged, err = s.unjudgedNeeds(ctx, sheets); err != nil {
		return err
	}
	if out.Broken, err = s.brokenRules(ctx, sheets); err != nil {
		return err
	}
	if out.Sources, err = s.sourceNeeds(ctx, sheets); err != nil {
		return err
	}
	if out.Needs, err = s.needs(ctx, sheets, d.rules); err != nil {
		return err
	}
	out.NeedsTotal, err = s.countNeeds(ctx, "")
	return err
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
	for d := local.AddDate(0, 0, -1); d.Weekday() == time.Saturday || d.Weekday() == time.Sunday; d = d.AddDate(0, 0,
		-1) {
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
