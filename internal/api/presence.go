package api

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"nivot/internal/store"
)

// BePresent implements StrictServerInterface.
func (s *Server) BePresent(ctx context.Context, r BePresentRequestObject) (BePresentResponseObject, error) {
	p := store.Presence{Page: r.Body.Page, SheetID: r.Sheet, PersonID: person(ctx).ID}
	if r.Body.Row != nil && *r.Body.Row != "" {
		id, err := parseID(*r.Body.Row)
		if err != nil {
			return nil, err
		}
		p.RowID = id
	}
	if r.Body.Thing != nil {
		p.Thing = *r.Body.Thing
	}
	if is(r.Body.Leaves) {
		err := s.st.DropPresence(ctx, p.Page)
		s.colleagues.forget(p)
		return BePresent200JSONResponse{}, err
	}
	core, err := s.e.CoreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	if r.Body.Column != nil {
		if c, ok := core.Column(*r.Body.Column); ok {
			p.ColumnID = c.ID
		}
	}
	if err := s.st.BePresent(ctx, p); err != nil {
		return nil, err
	}
	there, ok := s.colleagues.known(p)
	if !ok {
		if there.pages, err = s.st.Present(ctx, r.Sheet, p.Thing); err != nil {
			return nil, err
		}
		if there.names, err = s.st.PeopleNames(ctx); err != nil {
			return nil, err
		}
		s.colleagues.keep(p, there)
	}
	names := there.names
	out := BePresent200JSONResponse{}
	for _, x := range there.pages {
		if x.Page == p.Page {
			continue
		}
		c := Colleague{Name: names[x.PersonID], Initials: initials(names[x.PersonID])}
		if x.RowID != 0 {
			id := store.RowID(x.RowID)
			c.Row = &id
		}
		if x.ColumnID != "" {
			c.Column = &x.ColumnID
		}
		out = append(out, c)
	}
	return out, nil
}

// initials gives the first letters of a name's first and last word.
func initials(name string) string {
	words := strings.Fields(name)
	if len(words) == 0 {
		return "?"
	}
	first := []rune(words[0])[:1]
	if len(words) > 1 {
		first = append(first, []rune(words[len(words)-1])[0])
	}
	return strings.ToUpper(string(first))
}

// present is who has a sheet, or something of it, open.
type present struct {
	pages []store.Presence
	names map[string]string // of people, by id
}

// colleagues keeps who is where for a moment, so that pages that say again where they are do not have
// everybody read for each of them.
type colleagues struct {
	lately *expirable.LRU[string, present]
}

// latelyFor is for how long who is where serves those who have not moved.
const latelyFor = time.Second

func newColleagues() colleagues {
	return colleagues{expirable.NewLRU[string, present](1000, nil, latelyFor)}
}

func place(p store.Presence) string { return p.SheetID + " " + p.Thing }

// known gives who was where a moment ago, if a page that has just told is among them as it is.
func (c colleagues) known(p store.Presence) (present, bool) {
	there, ok := c.lately.Get(place(p))
	return there, ok && slices.ContainsFunc(there.pages, func(x store.Presence) bool {
		return x.Page == p.Page && x.PersonID == p.PersonID && x.RowID == p.RowID && x.ColumnID == p.ColumnID
	})
}

func (c colleagues) keep(p store.Presence, there present) { c.lately.Add(place(p), there) }

func (c colleagues) forget(p store.Presence) { c.lately.Remove(place(p)) }
