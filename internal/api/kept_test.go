package api

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"nivot/internal/store"
)

// What is deleted is out of sight for everybody, and comes back as it was: a person, a view,
// a template, a sheet; a copy of a sheet has its columns, templates and rules, not on.
func TestDeletedAndRestored(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	m.want(m.admin, "POST", "/people", `{"name":"Wilma Sand","email":"wilma@marrowby.example","role":"editor"}`, 200, nil)
	people := func() (out []Person) {
		m.want(m.admin, "GET", "/people", "", 200, &out)
		return out
	}
	var wilma Person
	for _, p := range people() {
		if p.Name == "Wilma Sand" {
			wilma = p
		}
	}
	m.want(m.co, "DELETE", "/people/"+wilma.Id, "", 403, nil)
	m.want(m.admin, "DELETE", "/people/"+wilma.Id, "", 204, nil)
	m.want(m.admin, "DELETE", "/people/"+wilma.Id, "", 404, nil)
	var colleagues []struct{ Name string }
	m.want(m.co, "GET", "/colleagues", "", 200, &colleagues)
	if strings.Contains(fmt.Sprint(colleagues), "Wilma") {
		t.Error("a deleted person is offered as a colleague")
	}
	for _, p := range people() {
		if p.Name == "Wilma Sand" && (p.DeletedAt == nil || p.DeletedBy == nil || *p.DeletedBy == "") {
			t.Errorf("%+v", p)
		}
	}
	m.want(m.admin, "POST", "/people", `{"name":"Wilma","email":"wilma@marrowby.example","role":"editor"}`, 422, nil)
	m.want(m.admin, "POST", "/people/"+wilma.Id+"/restore", "", 200, nil)
	m.want(m.admin, "POST", "/people/"+wilma.Id+"/restore", "", 404, nil)

	var view View
	m.want(m.co, "POST", "/sheets/"+sh.ID+"/views", `{"name":"Mine","shared":true,"spec":{"only":{"rows":"unjudged"}}}`,
		201, &view)
	m.want(m.as(store.Reader), "DELETE", "/sheets/"+sh.ID+"/views/"+view.Id, "", 403, nil)
	m.want(m.co, "DELETE", "/sheets/"+sh.ID+"/views/"+view.Id, "", 204, nil)
	m.want(m.co, "PUT", "/sheets/"+sh.ID+"/views/"+view.Id, `{"name":"Mine","shared":true,"spec":{}}`, 404, nil)
	var views []View
	m.want(m.as(store.Reader), "GET", "/sheets/"+sh.ID+"/views", "", 200, &views)
	if len(views) != 0 {
		t.Errorf("a reader sees what somebody else has deleted: %+v", views)
	}
	m.want(m.co, "POST", "/sheets/"+sh.ID+"/views/"+view.Id+"/restore", "", 200, &view)
	if view.DeletedAt != nil || view.Spec.Only == nil {
		t.Errorf("%+v", view)
	}

	doc := `{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"Hello"}]}]}`
	var tpl Template
	m.want(m.co, "POST", "/sheets/"+sh.ID+"/templates", `{"template":{"name":"Spare","subject":`+doc+`,"body":`+doc+`}}`,
		201, &tpl)
	m.want(m.co, "DELETE", "/sheets/"+sh.ID+"/templates/"+tpl.Id, "", 204, nil)
	m.want(m.co, "GET", "/sheets/"+sh.ID+"/templates/"+tpl.Id, "", 404, nil)
	m.want(m.co, "POST", "/sheets/"+sh.ID+"/templates/"+tpl.Id+"/restore", "", 200, &tpl)

	var was, copied Sheet
	m.want(m.co, "GET", "/sheets/"+sh.ID, "", 200, &was)
	m.want(m.co, "POST", "/sheets/"+sh.ID+"/copy", `{"name":"Loans again","rows":true}`, 201, &copied)
	if copied.Figures.Rows != was.Figures.Rows || len(copied.Columns) != len(was.Columns) || copied.Figures.RulesOn != 0 {
		t.Errorf("%d rows, %d columns, %d rules on; want %d, %d, 0", copied.Figures.Rows, len(copied.Columns),
			copied.Figures.RulesOn, was.Figures.Rows, len(was.Columns))
	}
	rows := func(sheet string) (out []string) {
		var page RowPage
		m.want(m.co, "POST", "/sheets/"+sheet+"/rows/query", `{"offset":0,"limit":50,"marks":false}`, 200, &page)
		for _, r := range page.Rows {
			out = append(out, fmt.Sprint(r.Name, r.Cells))
		}
		return out
	}
	text := func(list []string) string { return strings.Join(list, "\n") }
	if got, want := len(rows(copied.Id)), len(rows(was.Id)); got != want || text(rows(copied.Id)) == "" {
		t.Errorf("%d rows are copied, want %d", got, want)
	}
	var rules []Rule
	m.want(m.co, "GET", "/sheets/"+copied.Id+"/rules", "", 200, &rules)
	if len(rules) == 0 {
		t.Error("the copy has no rules")
	}
	m.want(m.co, "POST", "/sheets/"+sh.ID+"/put-away", "", 204, nil)
	var away []AwaySheet
	m.want(m.co, "GET", "/away-sheets", "", 200, &away)
	if len(away) != 1 || away[0].Deleted || away[0].Id != sh.ID {
		t.Errorf("%+v", away)
	}
	m.want(m.co, "POST", "/sheets/"+sh.ID+"/restore", "", 200, nil)
	m.want(m.as(store.Editor), "POST", "/sheets/"+sh.ID+"/restore", "", http.StatusForbidden, nil)
}
