package template

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"nivot/internal/core/value"
)

func keys(list []Check) []string {
	out := []string{}
	for _, c := range list {
		out = append(out, c.Key())
	}
	return out
}

// What may be wrong with a row's email is found without writing it; checking and rendering
// agree on subject and what is missing.
func TestRowChecks(t *testing.T) {
	s := loans()
	s.Address = "conmail"
	tpl := &Template{Name: "x", Subject: lineOf(t, "About [Object]", s),
		Body: body(t,
			`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"due"}},{"type":"field","attrs":{"column":"con","fallback":"friend"}}]}`),
		Language: "odd", Variants: []Variant{{Language: "de", Subject: lineOf(t, "[Contact]", s),
			Body: body(t, `{"type":"paragraph"}`)}}}
	good := map[string]string{"obj": "Bell", "due": "29/03/2027", "conmail": "ada@x.example"}
	with := func(more ...string) map[string]string {
		out := map[string]string{}
		for k, v := range good {
			out[k] = v
		}
		for i := 0; i < len(more); i += 2 {
			out[more[i]] = more[i+1]
		}
		return out
	}
	for _, c := range []struct {
		name  string
		cells map[string]string
		want  []string
	}{
		{"in order", good, []string{}},
		{"no address", with("conmail", ""), []string{"address-empty:conmail:"}},
		{"no address to be read", with("conmail", "nobody"), []string{"address-unreadable:conmail:"}},
		{"a field is empty", with("due", ""), []string{"field-empty:due:"}},
		{"a field cannot be read", with("due", "soon"), []string{"field-unreadable:due:"}},
		{"a tag", with("obj", "<b>Bell</b>"), []string{"field-markup:obj:"}},
		{"an entity", with("con", "Ada &amp; Ben"), []string{"field-markup:con:"}},
		{"no markup", with("obj", "A < B & C > D {1} 5 % $"), []string{}},
		{"a long subject", with("obj", strings.Repeat("é", 73)), []string{"subject-long::"}},
		{"as long as is shown", with("obj", strings.Repeat("é", 72)), []string{}},
		{"another language", with("odd", "fr"), []string{"language-unmet::fr"}},
		{"its own language", with("odd", "en"), []string{}},
		{"the variant, whose subject is empty", with("odd", "DE"), []string{"field-empty:con:", "subject-empty::"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			cx := Context{Sheet: s, Row: rowOf(s, c.cells), Today: value.DayOf(2027, 3, 22)}
			if got := keys(tpl.Row(cx)); !slices.Equal(got, c.want) {
				t.Errorf("%v, want %v", got, c.want)
			}
			a, b := tpl.Check(cx), tpl.Render(cx)
			if a.Subject != b.Subject || !slices.Equal(a.Missing, b.Missing) || a.Variant != b.Variant || a.Unmet != b.Unmet {
				t.Errorf("checking and rendering disagree: %+v, %+v", a, b)
			}
			if (len(a.Missing) > 0) != tpl.Lacks(cx) {
				t.Errorf("lacks %v, missing %v", tpl.Lacks(cx), a.Missing)
			}
		})
	}
}

func TestWholeChecks(t *testing.T) {
	s := loans()
	picture := `{"type":"image","attrs":{"type":"image/gif","data":"R0lGODlhAQABAAAAACwAAAAAAQABAAACAkQBADs=","alt":"%s"}}`
	words := `{"type":"paragraph","content":[{"type":"text","text":"Quite enough words for a letter."}]}`
	for _, c := range []struct {
		name, blocks string
		want         []string
	}{
		{"in order", words, nil},
		{"nothing", ``, []string{"text-poor::"}},
		{"a picture alone", fmt.Sprintf(picture, "Poster"), []string{"text-poor::"}},
		{"a picture without words", fmt.Sprintf(picture, "") + "," + words, []string{"image-silent::"}},
		{"a button to nowhere",
			words + `,{"type":"button","attrs":{"href":"https://"},"content":[{"type":"text","text":"Open"}]}`,
			[]string{"link-nowhere::"}},
		{"a link to nowhere",
			`{"type":"paragraph","content":[{"type":"text","text":"Quite enough words for a letter.","marks":[{"type":"link","attrs":{"href":""}}]}]}`, []string{"link-nowhere::"}},
		{"a column of another sheet", words + `,{"type":"rowTable","attrs":{"fields":[{"column":"elsewhere"}]}}`,
			[]string{"column-gone::"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			tpl := &Template{Name: "x", Subject: lineOf(t, "x", s), Body: body(t, c.blocks)}
			if err := tpl.ValidateDraft(s); err != nil {
				t.Fatal(err)
			}
			if got := keys(tpl.Whole(s)); !slices.Equal(got, c.want) {
				t.Errorf("%v, want %v", got, c.want)
			}
			for _, k := range tpl.Whole(s) {
				if k.Words(s) == string(k.Code) {
					t.Errorf("%s has no words", k.Code)
				}
			}
			tpl.Render(Context{Sheet: s, Row: rowOf(s, nil)}) // a draft can be looked at
			if strict := tpl.Validate(s) == nil; strict != !slices.ContainsFunc(c.want,
				func(k string) bool { return strings.HasPrefix(k, "link") || strings.HasPrefix(k, "column") }) {
				t.Errorf("saving it is allowed: %v", strict)
			}
		})
	}
}

// Addresses that stand in several rows, and those that one typing error parts from a common
// domain, of the sheet or of all.
func TestAddresses(t *testing.T) {
	var a, b Addresses
	n := int64(0)
	add := func(x *Addresses, text string) {
		n++
		x.Add(n, value.Parse(text, value.Reading{Type: value.Email}))
	}
	for i := range 6 {
		add(&a, fmt.Sprintf("p%d@marrowby.example", i)) // 1 to 6
	}
	add(&a, "x@marowby.example")                  // 7: a letter is missing
	add(&b, "P1@Marrowby.example, y@gmial.com")   // 8: doubled, and two have changed places
	add(&b, "z@localhost")                        // 9
	add(&b, "q@quite-other.example; r@gmx.de")    // 10
	add(&b, "w@marrowby.exampl")                  // 11
	add(&b, "")                                   // 12
	add(&b, "v@harrowby.example")                 // 13: a letter is wrong
	add(&b, "u@merton.example, t@mertan.example") // 14: neither is common
	a.Merge(&b)
	checks, rows := a.Found("mail")
	var got []string
	for i, c := range checks {
		got = append(got, fmt.Sprint(c.Key(), rows[i]))
	}
	want := []string{"address-doubled:mail:[2 8]", "address-doubtful:mail:[9]", "address-doubtful:mail:gmail.com[8]",
		"address-doubtful:mail:marrowby.example[7 11 13]"}
	if !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}
