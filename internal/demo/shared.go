package demo

import (
	"context"
	"encoding/json"
	"fmt"

	"nivot/internal/core/rule"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// formAddress is where the volunteers' form stands: the same each time, so that
// one can find it. Elsewhere addresses are made at random.
const formAddress = "marrowby-volunteers-join-in-2027"

// Share sets up how the museum's people share its sheets: what says what a row
// is, kept views, the logger's file that the display cases follow, and the form
// by which volunteers join.
func Share(ctx context.Context, e *engine.Engine) error {
	list, err := e.Store.Sheets(ctx)
	if err != nil {
		return err
	}
	sheets := map[string]*store.Sheet{}
	for i := range list {
		for short, name := range map[string]string{"loans": "Outgoing loans", "cases": "Display cases",
			"volunteers": "Volunteers"} {
			if list[i].Name == name {
				sheets[short] = &list[i]
			}
		}
	}
	people, err := e.Store.People(ctx)
	if err != nil {
		return err
	}
	tom := people[0].ID
	for _, p := range people {
		if p.Name == "Tom Ferrar" {
			tom = p.ID
		}
	}
	for name, roles := range map[string][2]string{"loans": {"Contact", "Language"}, "cases": {"Keeper", ""},
		"volunteers": {"Name", ""}} {
		c, err := columnsOf(sheets[name])
		if err != nil {
			return err
		}
		named, language := c[roles[0]], c[roles[1]]
		if _, err := e.ChangeSheet(ctx, sheets[name].ID, engine.SheetChange{Named: &named, Written: &language},
			"Tom Ferrar"); err != nil {
			return err
		}
	}
	for _, v := range []struct {
		sheet, name string
		filter      func(c map[string]string) rule.Condition
		sort        string
	}{
		{"loans", "Not yet back", func(c map[string]string) rule.Condition {
			return rule.Leaf(c["State"], rule.NoneOf,
				rule.ListOperand(rule.TextOperand(option(sheets["loans"], "State", "back"))))
		}, "Return due"},
		{"loans", "Report missing", func(c map[string]string) rule.Condition {
			return rule.AllOf(rule.Leaf(c["Condition report"], rule.NoneOf,
				rule.ListOperand(rule.TextOperand(option(sheets["loans"], "Condition report", "signed")))),
				rule.Leaf(c["State"], rule.OneOf, rule.ListOperand(rule.TextOperand(option(sheets["loans"], "State", "out")))))
		}, "Dispatched"},
		{"volunteers", "On leave", func(c map[string]string) rule.Condition {
			yes := true
			return rule.Leaf(c["On leave"], rule.Is, &rule.Operand{Yes: &yes})
		}, "Name"},
	} {
		c, err := columnsOf(sheets[v.sheet])
		if err != nil {
			return err
		}
		filter := v.filter(c)
		if err := keep(ctx, e, sheets[v.sheet].ID, tom, v.name, engine.ViewSpec{Filter: &filter,
			Sort: []engine.SortKey{{Column: c[v.sort]}}}); err != nil {
			return fmt.Errorf("view %s: %w", v.name, err)
		}
	}
	if e.Folder() != "" {
		if err := e.SaveSource(ctx, &store.Source{SheetID: sheets["cases"].ID, Place: driveFile, EveryMinutes: 60, Share: 50,
			Missing: "keep"}, "Tom Ferrar"); err != nil {
			return err
		}
	}
	return openForm(ctx, e, sheets["volunteers"])
}

func keep(ctx context.Context, e *engine.Engine, sheetID, person, name string, spec engine.ViewSpec) error {
	if _, err := e.View(ctx, sheetID, spec); err != nil {
		return err
	}
	b, err := json.Marshal(spec)
	if err != nil {
		return err
	}
	return e.Store.SaveView(ctx, &store.View{ID: store.NewID(), SheetID: sheetID, PersonID: person, Name: name,
		Shared: true, Spec: string(b), CreatedAt: e.Now()})
}

// columnsOf gives the ids of a sheet's columns by name.
func columnsOf(rec *store.Sheet) (map[string]string, error) {
	core, err := rec.Core()
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, c := range core.Columns {
		out[c.Name] = c.ID
	}
	return out, nil
}

func option(rec *store.Sheet, column, name string) string {
	core, err := rec.Core()
	if err != nil {
		return name
	}
	c, _ := core.ColumnNamed(column)
	for _, o := range c.Options {
		if o.Name == name {
			return o.ID
		}
	}
	return name
}

func openForm(ctx context.Context, e *engine.Engine, rec *store.Sheet) error {
	c, err := columnsOf(rec)
	if err != nil {
		return err
	}
	type field struct {
		Column   string `json:"column"`
		Label    string `json:"label"`
		Hint     string `json:"hint,omitempty"`
		Required bool   `json:"required,omitempty"`
	}
	b, err := json.Marshal(map[string]any{"open": true, "title": "Volunteer at Marrowby Museum",
		"intro":  "We look for people who like old things and other people. Leave your name, and you hear from us at once.",
		"button": "Join in", "thanks": "Thank you. An email is on its way to you.",
		"fields": []field{
			{c["Name"], "Your name", "", true},
			{c["Email"], "Your email address", "", true},
			{c["Rota day"], "The day that suits you best", "You can change it at any time.", false},
			{c["First aid until"], "Your first-aid certificate is valid until", "Leave it empty if you have none.", false},
		}})
	if err != nil {
		return err
	}
	return e.Store.SaveForm(ctx, &store.Form{SheetID: rec.ID, Address: formAddress, Open: true, Body: string(b)})
}
