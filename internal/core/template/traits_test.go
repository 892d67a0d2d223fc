package template

import (
	"slices"
	"strings"
	"testing"

	"nivot/internal/core/value"
)

// What a row's email has that others have not.
func TestTraits(t *testing.T) {
	s := loans()
	part := `{"type":"part","attrs":{"if":{"column":"val","op":">=","value":1000}},"content":[{"type":"paragraph","content":[{"type":"text","text":"Insured. "},{"type":"field","attrs":{"column":"odd","fallback":"none"}}]}]}`
	other := `{"type":"part","attrs":{"if":{"column":"obj","op":"is","value":"Bell"}},"content":[{"type":"paragraph","content":[{"type":"text","text":"It rings."}]}]}`
	tpl := &Template{Name: "x", Subject: lineOf(t, "About [Object]", s), Language: "con",
		Body: body(t,
			`{"type":"paragraph","content":[{"type":"text","text":"Dear "},{"type":"field","attrs":{"column":"con","fallback":"colleague"}},{"type":"text","text":". It is due on "},{"type":"field","attrs":{"column":"due","omit":true}},{"type":"text","text":"."}]},`+part+","+other),
		Variants: []Variant{{Language: "de", Subject: lineOf(t, "Zu [Object]", s), Body: para(t, "Guten Tag.")}}}
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name   string
		cells  map[string]string
		want   string
		length int
	}{
		{"all is there", map[string]string{"obj": "Urn", "con": "Ada", "due": "29/03/2027", "val": "5"},
			"in the first language; without the part shown if value is at least 1000; without the part shown if object is Bell",
			6},
		{"a part", map[string]string{"obj": "Urn", "con": "Ada", "due": "29/03/2027", "val": "5000", "odd": "odd"},
			"in the first language; with the part shown if value is at least 1000; without the part shown if object is Bell",
			9},
		{"two parts, and other words in one", map[string]string{"obj": "Bell", "con": "Ada", "due": "29/03/2027",
			"val": "5000"},
			"in the first language; with the part shown if value is at least 1000; Odd ] name is empty: its other words; " +
				"with the part shown if object is Bell", 7},
		{"a sentence that is left out", map[string]string{"obj": "Urn", "con": "Ada", "val": "5"},
			"in the first language; without the part shown if value is at least 1000; without the part shown if object is " +
				"Bell; Return due is empty: its sentence is left out", 6},
		{"an empty name", map[string]string{"obj": "Urn", "due": "29/03/2027", "val": "5"},
			"in the first language; Contact is empty: its other words; without the part shown if value is at least 1000; " +
				"without the part shown if object is Bell", 3},
		{"another language", map[string]string{"obj": "Urn", "con": "de", "val": "5000"}, "in German", 3},
		{"incomplete", map[string]string{"con": "Ada"}, "", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			cx := Context{Sheet: s, Row: rowOf(s, c.cells), Today: value.DayOf(2027, 3, 15)}
			traits, length := tpl.Traits(cx)
			var got []string
			for _, x := range traits {
				if !slices.Contains(TraitKinds, x.Kind) {
					t.Errorf("%s is none of the kinds", x.Kind)
				}
				got = append(got, tpl.TraitWords(x, cx))
			}
			if strings.Join(got, "; ") != c.want || length != c.length {
				t.Errorf("%s, %d\nwant %s, %d", strings.Join(got, "; "), length, c.want, c.length)
			}
		})
	}
}
