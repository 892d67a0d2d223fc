package api

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/value"
	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
	"nivot/internal/store"
)

// Random rules, each said clause by clause to the API as the editor says them,
// and random edits, made through it: what arrives at the practice mail server is
// what the rehearsal of the same bundle printed, each email at its instant.
func TestModelOverHTTP(t *testing.T) {
	arrived, kinds := 0, map[string]bool{}
	for seed := range uint64(6) {
		seed += 10 // which have every clause
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			p := newHTTPModel(t, seed)
			arrived += p.play()
			for _, r := range p.b.Rules {
				for _, c := range clausesOf(r) {
					kinds[c] = true
				}
			}
		})
	}
	for _, c := range []string{"date", "change", "threshold", "schedule", "condition", "wordings", "cc", "window",
		"round-up", "each", "same words", "repeat", "follow-ups", "stop"} {
		if !kinds[c] {
			t.Errorf("no rule had %s", c)
		}
	}
	if arrived < 30 {
		t.Errorf("only %d emails arrived in all", arrived)
	}
}

func clausesOf(r *rule.Rule) []string {
	out := []string{string(r.Trigger.Kind)}
	for name, has := range map[string]bool{"condition": r.Condition != nil, "wordings": len(r.Send) > 1,
		"cc": len(r.Cc) > 0, "window": r.Window != nil, "round-up": r.GroupBy != "",
		"each": r.Each, "same words": r.SameWords == rule.SkipSame, "repeat": r.Repeat != nil,
		"follow-ups": r.Then != nil, "stop": r.Then != nil &&
			r.Then.StopIf != nil} {
		if has {
			out = append(out, name)
		}
	}
	return out
}

// httpModel is a bundle that is played over HTTP.
type httpModel struct {
	*museum
	b        *exchange.Bundle
	edits    []plan.Edit
	from, to time.Time
	sheet    string
	columns  map[string]string // ids in the bundle to ids of the API
}

func newHTTPModel(t *testing.T, seed uint64) *httpModel {
	g := exchangetest.New(seed, 2711)
	files := g.Bundle()
	p := &httpModel{from: time.Date(2027, 3, 15, 8, 40, 0, 0, time.UTC), to: time.Date(2027, 4, 5, 8, 40, 0, 0, time.UTC),
		columns: map[string]string{}}
	var err error
	if p.b, err = exchange.ReadBundle(files); err != nil {
		t.Fatal(err)
	}
	if p.edits, err = p.b.ReadEdits([]byte(g.Edits(p.b, p.from, p.to))); err != nil {
		t.Fatal(err)
	}
	still := time.Now()
	p.museum = museumBy(t, func() time.Time { return still })
	files["rules.json"] = &fstest.MapFile{Data: []byte("[]")}
	status, text := p.send(p.co, "/bundles", "bundle.zip", zipped(t, files), nil)
	var sh Sheet
	if err := json.Unmarshal([]byte(text), &sh); err != nil || status != 201 {
		t.Fatal(status, text)
	}
	p.sheet = "/sheets/" + sh.Id
	for _, c := range append(sh.Columns, sh.Derived...) {
		own, ok := p.b.Sheet.ColumnNamed(c.Name)
		if !ok {
			t.Fatalf("the bundle has no column %s", c.Name)
		}
		p.columns[own.ID] = c.Id
	}
	p.rules()
	return p
}

func zipped(t *testing.T, files fstest.MapFS) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for name, f := range files {
		part, err := w.Create(name)
		if err == nil {
			_, err = part.Write(f.Data)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// rules says the bundle's rules to the API, and switches them on.
func (p *httpModel) rules() {
	p.t.Helper()
	var tpls []struct{ Id, Name, Sheet string }
	p.want(p.co, "GET", "/templates", "", 200, &tpls)
	template := func(id string) (string, error) {
		for _, t := range tpls {
			if value.Fold(t.Name) == id && strings.HasSuffix(p.sheet, "/"+t.Sheet) {
				return t.Id, nil
			}
		}
		return "", fmt.Errorf("there is no template %s", id)
	}
	column := func(id string) (string, error) { return p.columns[id], nil }
	option := func(_, name string) (string, error) { return name, nil } // options are met by name
	for _, r := range p.b.Rules {
		own, err := r.Clone()
		if err == nil {
			err = own.Rename(column, template, option)
		}
		if err != nil {
			p.t.Fatal(err)
		}
		var body map[string]any
		raw, _ := json.Marshal(own)
		if err := json.Unmarshal(raw, &body); err != nil {
			p.t.Fatal(err)
		}
		delete(body, "id")
		delete(body, "state")
		var saved Rule
		p.want(p.co, "POST", p.sheet+"/rules", `{"body":`+jsonOf(body)+`}`, 201, &saved)
		p.want(p.co, "PUT", p.sheet+"/rules/"+saved.Id+"/state", `{"state":"on"}`, 200, &saved)
	}
}

// play makes the edits, each at its instant, and compares what arrived with the
// rehearsal.
func (p *httpModel) play() int {
	p.t.Helper()
	var want []string
	if err := p.b.Rehearse(false, p.edits, p.from, p.to, func(l *exchange.RehearsalLine) error {
		if l.Outcome == string(plan.Send) {
			when, _ := time.Parse(time.RFC3339, l.At)
			want = append(want, when.UTC().Format("01-02 15:04:05 ")+p.addresses(append(append([]string{}, l.To...), l.Cc...))+
				" | "+l.Subject)
		}
		return nil
	}); err != nil {
		p.t.Fatal(err)
	}
	for _, ed := range p.edits {
		p.until(ed.At.Format(time.RFC3339))
		p.edit(ed)
	}
	p.until(p.to.Add(-time.Second).Format(time.RFC3339))
	var got []string
	var mails []store.PracticeMessage
	if err := p.st.DB(p.t.Context()).Find(&mails).Error; err != nil {
		p.t.Fatal(err)
	}
	for _, m := range mails {
		got = append(got, m.ReceivedAt.UTC().Format("01-02 15:04:05 ")+strings.ReplaceAll(m.EnvelopeTo, "\n", ",")+" | "+
			m.Subject)
	}
	slices.Sort(want)
	slices.Sort(got)
	if !slices.Equal(got, want) {
		var rules []string
		for _, r := range p.b.Rules {
			rules = append(rules, jsonOf(r))
		}
		p.t.Errorf("arrived\n%s\nrehearsed\n%s\nby\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"),
			strings.Join(rules, "\n"))
	}
	return len(got)
}

func (p *httpModel) addresses(boxes []string) string {
	var out []string
	for _, b := range boxes {
		list, err := value.ParseMailboxes(b)
		if err != nil {
			p.t.Fatal(err)
		}
		for _, m := range list {
			out = append(out, m.ASCII())
		}
	}
	return strings.Join(out, ",")
}

// edit makes one edit through the API.
func (p *httpModel) edit(ed plan.Edit) {
	p.t.Helper()
	cells := map[string]string{}
	for id, v := range ed.Set {
		c, _ := p.b.Sheet.Column(id)
		cells[p.columns[id]] = p.b.Sheet.Input(c, v)
	}
	step, kind := map[string]any{"op": "add", "cells": cells}, "add"
	if !ed.Add {
		step, kind = map[string]any{"op": "edit", "row": p.rowNamed(ed.Row), "cells": cells}, "edit"
		if ed.Delete {
			step, kind = map[string]any{"op": "delete", "row": step["row"]}, "delete"
		}
	}
	p.want(p.co, "POST", p.sheet+"/changes", jsonOf(map[string]any{"kind": kind, "steps": []any{step}}), 200, nil)
}

func (p *httpModel) rowNamed(name string) string {
	p.t.Helper()
	var page struct{ Rows []Row }
	p.want(p.co, "POST", p.sheet+"/rows/query", jsonOf(map[string]any{"find": name, "offset": 0, "limit": 50}), 200,
		&page)
	for _, r := range page.Rows {
		if r.Name == name {
			return r.Id
		}
	}
	p.t.Fatalf("there is no row %s (%s)", name, url.QueryEscape(name))
	return ""
}
