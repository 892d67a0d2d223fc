package template

import (
	"strings"
	"testing"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// A template for another sheet names that sheet's columns and options: as was said, else by name
// where the types agree; what has no place is marked, and keeps it from being saved.
func TestFit(t *testing.T) {
	options := func(a, b string) []value.Option {
		return []value.Option{{ID: a, Name: "Out"}, {ID: b, Name: "Back"}}
	}
	from := loans()
	from.Columns = append(from.Columns, sheet.Column{ID: "sta", Name: "State", Type: value.Choice, Pos: 6,
		Options: options("o1", "o2")})
	to := loans()
	to.Columns = []sheet.Column{{ID: "obj", Name: "Value", Type: value.Text}, {ID: "x1", Name: "object", Type: value.Text,
		Pos: 1}, {ID: "x2", Name: "Who", Type: value.Text, Pos: 2},
		{ID: "x3", Name: "State", Type: value.Choice, Pos: 3, Options: options("p2", "p1")}}
	letter := func() *Template {
		return &Template{ID: "t", Name: "x", Written: 3, Language: "con", Subject: lineOf(t, "[Object]", from),
			Variants: []Variant{{Language: "de", Of: 2, Subject: lineOf(t, "[Contact]", from),
				Body: body(t, `{"type":"paragraph"}`)}},
			Body: body(t,
				`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"val"}}]},{"type":"part","attrs":{"if":{"column":"sta","op":"is","value":"o2"}},"content":[{"type":"paragraph"}]}`)}
	}
	for _, c := range []struct {
		name            string
		said            map[string]string
		object, contact string
		language        string
	}{
		{"by name", nil, "x1", "?Contact", ""},
		{"as said", map[string]string{"con": "x2"}, "x1", "x2", "x2"},
		{"said to be none", map[string]string{"obj": "", "con": "x2"}, "?Object", "x2", "x2"},
		{"said of one that has gone", map[string]string{"obj": "x9"}, "x1", "?Contact", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			tpl := letter()
			list, err := tpl.Fit(from, to, c.said)
			if err != nil {
				t.Fatal(err)
			}
			if got := tpl.Subject.Content[0].Content[0].Field.Column; got != c.object {
				t.Errorf("the object is %s, want %s", got, c.object)
			}
			if got := tpl.Variants[0].Subject.Content[0].Content[0].Field.Column; got != c.contact ||
				tpl.Language != c.language {
				t.Errorf("the contact is %s and the language %q, want %s and %q", got, tpl.Language, c.contact, c.language)
			}
			// A column of the same name and another type is none, and an id of the other sheet no match.
			if got := tpl.Body.Content[0].Content[0].Field.Column; got != "?Value" || tpl.ID != "" || tpl.Written != 0 ||
				tpl.Variants[0].Of != 0 {
				t.Errorf("the value is %s; %+v", got, tpl)
			}
			if j, _ := tpl.Body.Content[1].If.MarshalJSON(); !strings.Contains(string(j), `"x3"`) ||
				!strings.Contains(string(j), `"p1"`) {
				t.Errorf("the part is shown if %s", j)
			}
			seen := map[string]bool{}
			for _, f := range list {
				if seen[f.Column.ID] {
					t.Errorf("%s is asked for twice", f.Column.Name)
				}
				seen[f.Column.ID] = true
			}
			if len(list) != 4 || tpl.Validate(to) == nil || tpl.ValidateDraft(to) != nil || tpl.Strangers(to) == 0 {
				t.Errorf("%d columns, %d of them strangers", len(list), tpl.Strangers(to))
			}
		})
	}
}
