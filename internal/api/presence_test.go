package api

import (
	"testing"

	"nivot/internal/store"
)

// Who was where a moment ago serves a page that says again where it is; one that has come, has moved, or
// looks at something else has it read anew.
func TestColleagues(t *testing.T) {
	c := newColleagues()
	at := store.Presence{Page: "p", SheetID: "s", PersonID: "tom", RowID: 4, ColumnID: "c1"}
	if _, ok := c.known(at); ok {
		t.Error("somebody is known who has never been read")
	}
	c.keep(at, present{pages: []store.Presence{at, {Page: "q", SheetID: "s", PersonID: "ines"}}})
	with := func(change func(*store.Presence)) store.Presence {
		p := at
		change(&p)
		return p
	}
	for name, x := range map[string]struct {
		page store.Presence
		want bool
	}{
		"as it was":         {at, true},
		"in another row":    {with(func(p *store.Presence) { p.RowID = 5 }), false},
		"in another column": {with(func(p *store.Presence) { p.ColumnID = "c2" }), false},
		"another page":      {with(func(p *store.Presence) { p.Page = "r" }), false},
		"another person":    {with(func(p *store.Presence) { p.PersonID = "ines" }), false},
		"another sheet":     {with(func(p *store.Presence) { p.SheetID = "z" }), false},
		"a rule of it":      {with(func(p *store.Presence) { p.Thing = "rule:1" }), false},
	} {
		t.Run(name, func(t *testing.T) {
			if _, ok := c.known(x.page); ok != x.want {
				t.Errorf("known is %v, want %v", ok, x.want)
			}
		})
	}
	c.forget(at)
	if _, ok := c.known(at); ok {
		t.Error("who was there is known after somebody has left")
	}
}
