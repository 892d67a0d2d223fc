package api

import (
	"context"
	"sort"
	"strings"
	"time"

	"nivot/internal/core/delivery"
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
	out := GetToday200JSONResponse{Now: now, Zone: s.Zone.String(), Lanes: []Lane{}, Marks: []Mark{}, Needs: []Need{},
		Days: []DayBar{}, Notices: []Notice{}}
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
		past, err := s.st.Between(ctx, store.LogFilter{SheetID: sheets[i].ID, Since: utc(midnight),
			Until: utc(endOfDay(now, s.Zone))}, maxPastMarks)
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
			out.Doubled = append(out.Doubled, doubledNeed{SheetId: sheets[i].ID, Sheet: sheets[i].Name,
				Key: sheets[i].KeyColumn, Rows: int(n)})
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
