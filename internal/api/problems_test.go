package api

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"nivot/internal/store"
)

// Every fault says where it is, from the body's root, and what is wanted, in words that are
// not those of a library.
func TestFaultsSayWhere(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	rules := m.rulesOf(sh.ID)
	var rule Rule
	m.want(m.co, "GET", "/sheets/"+sh.ID+"/rules/"+rules[0].Id, "", 200, &rule)
	b, err := json.Marshal(rule.Body)
	if err != nil {
		t.Fatal(err)
	}
	saved := string(b)
	with := func(old, new string) string {
		if !strings.Contains(saved, old) {
			t.Fatalf("the rule has no %s: %s", old, saved)
		}
		return fmt.Sprintf(`{"body":%s}`, strings.Replace(saved, old, new, 1))
	}
	offsets := saved[strings.Index(saved, `"offsets":[`):]
	offsets = offsets[:strings.Index(offsets, "]")+1]
	one := `{"n":-1,"unit":"days"}`
	ruleAt, change := "/sheets/"+sh.ID+"/rules/"+rule.Id, "/sheets/"+sh.ID+"/changes"
	for _, x := range []struct {
		name, method, path, sent string
		status                   int
		field, words             string
	}{
		{"a name too long", "POST", "/people", `{"name":"` + strings.Repeat("x", 121) +
			`","email":"x@y.example","role":"reader"}`, 422, "/name", "at most 120 characters"},
		{"a name that is not there", "POST", "/people", `{"name":"x","email":"x@y.example","role":"reader","age":1}`, 422,
			"/age", "no such name"},
		{"one that is missing", "POST", "/people", `{"name":"x","role":"reader"}`, 422, "/email", "missing"},
		{"another type", "POST", "/people", `{"name":7,"email":"x@y.example","role":"reader"}`, 422, "/name",
			"ext is wanted here, not 7"},
		{"none of the words", "POST", "/people", `{"name":"x","email":"x@y.example","role":"owner"}`, 422, "/role",
			"one of administrator"},
		{"no JSON", "POST", "/people", `{"name":`, 400, "", "no JSON, at byte"},
		{"no UTF-8", "POST", "/people", "{\"name\":\"a\xff\",\"email\":\"x@y.example\",\"role\":\"reader\"}", 400, "",
			"no UTF-8"},
		{"half a character", "POST", "/people", `{"name":"\ud83c","email":"x@y.example","role":"reader"}`, 400, "",
			"half a character"},
		{"a name twice", "POST", "/people", `{"name":"x","name":"y","email":"x@y.example","role":"reader"}`, 400, "",
			"stands twice"},
		{"a rule's part", "PUT", ruleAt, with(`"unit":"days"`, `"unit":"fortnights"`), 422, "/body/trigger/offsets/0/unit",
			"fortnights"},
		{"a rule's list", "PUT", ruleAt, with(offsets, `"offsets":[`+strings.Repeat(one+",", 4999)+one+`]`), 422,
			"/body/trigger/offsets", "at most"},
		{"a rule's empty days", "PUT", ruleAt, fmt.Sprintf(`{"body":%s,"window":{"weekdays":[]}}}`, saved[:len(saved)-1]),
			422, "/body/window/weekdays", "a day at least"},
		{"nested not", "PUT", ruleAt, fmt.Sprintf(`{"body":%s,"condition":%s1%s}}`, saved[:len(saved)-1],
			strings.Repeat(`{"not":`, 4000), strings.Repeat("}", 4000)), 400, "", "nested deeper"},
		{"an older version", "PUT", ruleAt, fmt.Sprintf(`{"body":%s,"version":99}`, saved), 409, "/version", ""},
		{"a step's cell", "POST", change,
			`{"kind":"edit","steps":[{"op":"edit","row":"1","cells":{"c2":"x"}},{"op":"edit","row":"2","cells":{"Nothing":"x"}}]}`, 422, "/steps/1/cells/Nothing", "no column"},
		{"a step's row", "POST", change,
			`{"kind":"edit","steps":[{"op":"edit","row":"1","cells":{"c2":"x"}},{"op":"delete","row":"99999"}]}`, 404,
			"/steps/1", ""},
		{"a step without a row", "POST", change, `{"kind":"edit","steps":[{"op":"delete"}]}`, 422, "/steps/0/row",
			"names its row"},
		{"30 February", "POST", "/clock", `{"to":"instant","at":"2027-02-30T09:00:00Z"}`, 422, "/at", ""},
		{"a number in the address", "GET", "/log?limit=many", "", 422, "/limit", ""},
	} {
		t.Run(x.name, func(t *testing.T) {
			who := m.co
			if x.path == "/people" || x.path == "/clock" {
				who = m.as(store.Administrator)
			}
			res := m.call(who, x.method, "/api"+x.path, x.sent)
			text := body(res)
			var p Problem
			if err := json.Unmarshal([]byte(text), &p); err != nil {
				t.Fatalf("%d %s", res.StatusCode, text)
			}
			field := ""
			if p.Field != nil {
				field = *p.Field
			}
			if res.StatusCode != x.status || field != x.field || !strings.Contains(p.Title, x.words) {
				t.Errorf("got %d at %q: %s; want %d at %q: %s", res.StatusCode, field, p.Title, x.status, x.field, x.words)
			}
			for _, theirs := range []string{"json:", "Go ", "schema", "doesn't match", "unmarshal", "property \"", "value must",
				"parsing"} {
				if strings.Contains(p.Title, theirs) {
					t.Errorf("a library's words: %s", p.Title)
				}
			}
		})
	}
}
