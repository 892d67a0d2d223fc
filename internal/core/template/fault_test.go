package template

import (
	"encoding/json"
	"strings"
	"testing"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// What is wrong with a template is said with its place, whether it cannot be read or does not fit its sheet.
func TestFaultsSayWhere(t *testing.T) {
	line := func(text string) string {
		return `{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"` + text + `"}]}]}`
	}
	body := func(block string) string { return `{"type":"doc","content":[` + block + `]}` }
	text := `{"type":"paragraph","content":[{"type":"text","text":"x"}]}`
	for _, c := range []struct{ more, pointer string }{
		{`"name":""`, "/name"},
		{`"language":"none"`, "/language"},
		{`"firstLanguage":"no language"`, "/firstLanguage"},
		{`"variants":[{"language":"de","subject":` + line("x") + `,"body":` + line("x") + `}]`, "/language"},
		{`"subject":` + text, "/subject"},
		{`"subject":"words"`, "/subject"},
		{`"body":` + body(text+`,{"type":"heading","attrs":{"level":9},"content":[]}`), "/body/content/1/attrs/level"},
		{`"body":` + body(text+`,{"type":"heading","attrs":{"size":9},"content":[]}`), "/body/content/1/attrs"},
		{`"body":` + body(`{"type":"listItem"}`), "/body/content/0/type"},
		{`"body":` + body(`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"gone"}}]}`),
			"/body/content/0/content/0/attrs"},
		{`"body":` + body(`{"type":"paragraph","content":[{"type":"text","text":"x","marks":[{"type":"link","attrs":{"href":"javascript:x"}}]}]}`),
			"/body/content/0/content/0/marks/0/attrs/href"},
		{`"body":` + body(`{"type":"button","attrs":{"href":"ftp://x.example"},"content":[{"type":"text","text":"x"}]}`),
			"/body/content/0/attrs/href"},
		{`"body":` + body(`{"type":"part","attrs":{"if":{"all":[{"column":"gone","op":"is","value":"x"}]}},"content":[`+text+`]}`),
			"/body/content/0/attrs/if/all/0/column"},
		{`"attachments":[{"kind":"rows","format":"pdf"}]`, "/attachments/0/format"},
		{`"attachments":[{"kind":"rows","format":"csv","columns":["gone"]}]`, "/attachments/0/columns/0"},
		{`"attachments":[{"kind":"unknown"}]`, "/attachments/0/kind"},
	} {
		t.Run(c.pointer, func(t *testing.T) {
			parts := map[string]json.RawMessage{"name": json.RawMessage(`"x"`), "subject": json.RawMessage(line("x")),
				"body": json.RawMessage(line("x"))}
			if err := json.Unmarshal([]byte("{"+c.more+"}"), &parts); err != nil {
				t.Fatal(err)
			}
			whole, err := json.Marshal(parts)
			if err != nil {
				t.Fatal(err)
			}
			var tpl Template
			if err = json.Unmarshal(whole, &tpl); err == nil {
				err = tpl.Validate(loans())
			}
			if err == nil || PointerOf(err) != c.pointer {
				t.Errorf("got %q (%v), want %q", PointerOf(err), err, c.pointer)
			}
		})
	}
}

// A value turns the direction of nothing behind it, and keeps its own marks.
func TestDirectionEndsWithItsField(t *testing.T) {
	for _, c := range []struct{ name, in, want string }{
		{"marks alone", "a\u200eb\u200f\u061c", "a\u200eb\u200f\u061c"},
		{"an override that stays open", "a\u202eb", "a\u202eb\u202c"},
		{"one that is closed", "\u202ab\u202cc", "\u202ab\u202cc"},
		{"isolates and embeddings", "\u2067x\u202by", "\u2067x\u202by\u202c\u2069"},
		{"an isolate closes what is in it", "\u2066x\u202ey\u2069z", "\u2066x\u202ey\u2069z"},
		{"what others have opened is not closed", "a\u202cb\u2069c", "abc"},
		{"not across an isolate", "\u202e\u2066x\u202cy", "\u202e\u2066xy\u2069\u202c"},
		{"control characters", "a\x00b\x07c\u0085d\x1b", "abcd"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := clean(c.in); got != c.want {
				t.Errorf("got %q, want %q", got, c.want)
			}
		})
	}
	if got := clean(strings.Repeat("\u202e", 1000)); len([]rune(got)) != 2*maxTurns {
		t.Errorf("a thousand overrides become %d characters", len([]rune(got)))
	}
	if got := FileName("a\u202efdp.txt", "text/plain"); got != "afdp.txt" {
		t.Errorf("the name of a file: %q", got)
	}
}

// Characters that nobody sees are told, and a subject that is not there is one thing of the whole template.
func TestControlsAndSubjects(t *testing.T) {
	s := loans()
	b, err := ParseText("Dear [object]", s)
	if err != nil {
		t.Fatal(err)
	}
	tpl := &Template{Name: "x", Subject: Node{Type: Doc}, Body: b}
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	row := &sheet.Row{ID: "1", Cells: []value.Value{value.OfText("Tin\x07 weathercock")}}
	of, whole := "", ""
	for _, k := range tpl.Row(Context{Sheet: s, Row: row}) {
		of += k.Key() + " "
	}
	for _, k := range tpl.Whole(s) {
		whole += k.Key() + " "
	}
	if !strings.Contains(of, string(FieldControls)+":") || strings.Contains(of, string(SubjectEmpty)) ||
		!strings.Contains(whole, string(SubjectEmpty)) {
		t.Errorf("of the row: %s; of the template: %s", of, whole)
	}
}
