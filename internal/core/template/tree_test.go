package template

import (
	"encoding/json"
	"regexp"
	"strings"
	"testing"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

func body(t testing.TB, blocks string) Node {
	t.Helper()
	var n Node
	if err := json.Unmarshal([]byte(`{"type":"doc","content":[`+blocks+`]}`), &n); err != nil {
		t.Fatalf("%s: %v", blocks, err)
	}
	return n
}

func rowOf(s *sheet.Sheet, cells map[string]string) *sheet.Row {
	r := &sheet.Row{ID: "1"}
	for id, text := range cells {
		c, _ := s.Column(id)
		r.Set(c, value.Parse(text, s.Reading(c)))
	}
	return r
}

// whole has every kind of block.
const whole = `
	{"type":"heading","attrs":{"level":1},"content":[{"type":"text","text":"Return of "},{"type":"field","attrs":{"column":"obj","case":"upper"}}]},
	{"type":"part","attrs":{"if":{"column":"val","op":">","value":1000}},"content":[{"type":"paragraph","content":[{"type":"text","text":"It is insured for "},{"type":"field","attrs":{"column":"val","decimals":2}}]}]},
	{"type":"part","attrs":{"if":{"column":"con","op":"empty"}},"content":[{"type":"paragraph","content":[{"type":"text","text":"Nobody is named."}]}]},
	{"type":"rowTable","attrs":{"fields":[{"column":"due","style":"long"},{"column":"val"}]}},
	{"type":"divider"},
	{"type":"button","attrs":{"href":["https://loans.marrowby.example/",{"column":"obj"},"?by=",{"column":"con","fallback":"desk"}]},"content":[{"type":"text","text":"Open "},{"type":"field","attrs":{"column":"obj"}}]},
	{"type":"paragraph","content":[{"type":"text","text":"late","marks":[{"type":"colour","attrs":{"colour":"#a63a2b"}},{"type":"underline"}]},{"type":"text","text":" or "},{"type":"text","text":"not","marks":[{"type":"italic"}]}]},
	{"type":"image","attrs":{"type":"image/gif","data":"R0lGODlhAQABAAAAACwAAAAAAQABAAACAkQBADs=","alt":["The \"bell\" tower of ",{"column":"obj"}],"width":120,"align":"center"}},
	{"type":"quote","content":[{"type":"paragraph","attrs":{"align":"right"},"content":[{"type":"field","attrs":{"column":"obj"}}]}]},
	{"type":"table","content":[{"type":"tableRow","content":[{"type":"tableHeader","content":[{"type":"paragraph","content":[{"type":"text","text":"Monday"}]}]},{"type":"tableCell","content":[{"type":"paragraph","content":[{"type":"field","attrs":{"column":"obj"}}]}]}]}]},
	{"type":"rowTable","attrs":{"fields":[{"column":"obj"},{"column":"con","omit":true}],"over":true}},
	{"type":"paragraph","content":[{"type":"text","text":"Stop","marks":[{"type":"link","attrs":{"href":[{"of":"opt-out"}]}}]},{"type":"text","text":" it, "},{"type":"field","attrs":{"of":"key"}}]}`

// Section 6: every block in both halves of the email, values escaped for where
// they stand, a part only where its condition holds, its gaps too.
func TestEveryBlock(t *testing.T) {
	s := loans()
	tpl := &Template{Name: "x", Subject: body(t, ""), Body: body(t, whole)}
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	r := tpl.Render(Context{Sheet: s, Row: rowOf(s, map[string]string{"obj": `Bell & "book"?`, "con": "a/b",
		"due": "29/03/2027", "val": "1500"}), Today: value.DayOf(2027, 3, 22)})
	for _, part := range []string{"Return of BELL & \"BOOK\"?\n", "It is insured for 1500.00\n",
		"Return due: 29 March 2027\n",
		"Open Bell & \"book\"? (https://loans.marrowby.example/Bell%20%26%20%22book%22%3F?by=a%2Fb)\n", "late or not\n",
		"[The \"bell\" tower of Bell & \"book\"?]", "> Bell & \"book\"?\n", "- Monday · Bell & \"book\"?\n",
		"Contact: a/b\n", "Stop (nivot:opt-out) it, #0"} {
		if !strings.Contains(r.Text, part) {
			t.Errorf("the text lacks %q:\n%s", part, r.Text)
		}
	}
	for _, part := range []string{`BELL &amp; &#34;BOOK&#34;?`,
		`href="https://loans.marrowby.example/Bell%20%26%20%22book%22%3F?by=a%2Fb"`, `#a63a2b`, `<em>not</em>`,
		`alt="The &#34;bell&#34; tower of Bell &amp; &#34;book&#34;?"`, `width="120"`} {
		if !strings.Contains(r.HTML, part) {
			t.Errorf("the HTML lacks %s:\n%s", part, r.HTML)
		}
	}
	if strings.Contains(r.Text, "Nobody") || len(r.Missing) > 0 {
		t.Errorf("%s\n%v", r.Text, r.Missing)
	}
	// What a part that is not shown lacks is not missing; what is shown lacks is.
	r = tpl.Render(Context{Sheet: s, Row: rowOf(s, map[string]string{"obj": "Bell", "due": "29/03/2027"}),
		Today: value.DayOf(2027, 3, 22)})
	if !strings.Contains(r.Text, "Nobody is named.") || strings.Contains(r.Text, "insured") ||
		!strings.Contains(r.Text, "?by=desk") {
		t.Errorf("%s", r.Text)
	}
	if len(r.Missing) != 1 || r.Missing[0] != "val" {
		t.Errorf("missing %v, want the value alone", r.Missing)
	}
	if got := tpl.Check(Context{Sheet: s,
		Row: rowOf(s, map[string]string{"obj": "Bell", "due": "29/03/2027"})}).Missing; len(got) != 1 || got[0] != "val" {
		t.Errorf("checking gives %v, rendering val", got)
	}
}

// Reading what has been written gives the same tree.
func TestTreeReadsBack(t *testing.T) {
	n := body(t, whole)
	b, err := json.Marshal(n)
	if err != nil {
		t.Fatal(err)
	}
	var again Node
	if err := json.Unmarshal(b, &again); err != nil {
		t.Fatal(err)
	}
	if c, _ := json.Marshal(again); string(b) != string(c) {
		t.Errorf("written\n%s\nread and written again\n%s", b, c)
	}
}

// Section 6: a round-up's table has a line for each row; an empty cell there is
// an empty cell.
func TestRoundUpTable(t *testing.T) {
	s := loans()
	tpl := &Template{Name: "x", Subject: body(t, ""),
		Body: body(t,
			`{"type":"roundUpTable","attrs":{"fields":[{"column":"obj"},{"column":"con","fallback":"nobody"},{"column":"due"}]}}`)}
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	a, b := rowOf(s, map[string]string{"obj": "Bell\nbook", "due": "29/03/2027"}),
		rowOf(s, map[string]string{"obj": "<i>Oak</i>", "con": "Ada"})
	r := tpl.Render(Context{Sheet: s, Row: a, Rows: []*sheet.Row{a, b}})
	if want := "- Bell book · nobody · 29 Mar 2027\n- <i>Oak</i> · Ada · "; !strings.Contains(r.Text, want) {
		t.Errorf("%q\nwant %q", r.Text, want)
	}
	if len(r.Missing) > 0 || strings.Count(r.HTML, "<tr>") < 2 || strings.Contains(r.HTML, "<i>") {
		t.Errorf("%v\n%s", r.Missing, r.HTML)
	}
}

func variant(language string, text Node) Variant {
	return Variant{Language: language, Subject: text, Body: text}
}

// Section 6: the language column chooses the variant, whatever its case; else
// the template itself is used. Dates follow the variant's language.
func TestVariants(t *testing.T) {
	s := loans()
	line := func(text string) Node {
		return body(t, `{"type":"paragraph","content":[{"type":"text","text":"`+text+
			` "},{"type":"field","attrs":{"column":"due","style":"long"}}]}`)
	}
	tpl := &Template{Name: "x", Subject: line("Due"), Body: line("Due"), Language: "con",
		Variants: []Variant{variant("de", line("Fällig")), variant("fr", line("Retour"))}}
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	for language, want := range map[string]string{"de": "Fällig 29. März 2027", "DE": "Fällig 29. März 2027",
		"fr": "Retour 29 mars 2027", "xx": "Due 29 March 2027", "": "Due 29 March 2027"} {
		r := tpl.Render(Context{Sheet: s, Row: rowOf(s, map[string]string{"con": language, "due": "29/03/2027"})})
		if r.Subject != want || !strings.HasPrefix(r.Text, want) {
			t.Errorf("%q: %q and %q, want %q", language, r.Subject, r.Text, want)
		}
	}
	for _, bad := range []*Template{
		{Name: "x", Subject: line(""), Body: line(""), Variants: tpl.Variants},
		{Name: "x", Subject: line(""), Body: line(""), Language: "due", Variants: tpl.Variants},
		{Name: "x", Subject: line(""), Body: line(""), Language: "con", Variants: append([]Variant{variant("DE", line(""))},
			tpl.Variants...)},
		{Name: "x", Subject: line(""), Body: line(""), Language: "con",
			Variants: []Variant{{Language: "de", Subject: line(""), Body: Node{Type: Doc, Content: []Node{{Type: "script"}}}}}},
	} {
		if bad.Validate(s) == nil {
			t.Errorf("%+v is accepted", bad)
		}
	}
}

// Every fault of the tree says what would be right.
func TestTreeFaults(t *testing.T) {
	s := loans()
	for in, want := range map[string]string{
		`{"type":"heading","attrs":{"level":4}}`:                         "level 1 to 3",
		`{"type":"rowTable","attrs":{"fields":[]}}`:                      "at least one field",
		`{"type":"roundUpTable","attrs":{"fields":[{"column":"gone"}]}}`: "not there any more",
		`{"type":"part","attrs":{},"content":[{"type":"paragraph"}]}`:    "needs the condition",
		`{"type":"part","attrs":{"if":{"column":"gone","op":"empty"}}}`:  "",
		`{"type":"part","attrs":{"if":{"column":"con","op":"empty"}},"content":[{"type":"part","attrs":{"if":{"column":"con","op":"empty"}}}]}`: "cannot stand in a part",
		`{"type":"button","attrs":{"href":[{"column":"obj"}]},"content":[{"type":"text","text":"x"}]}`:                                          "begins with its address",
		`{"type":"button","attrs":{"href":["https://",{"column":"obj"},".example/"]},"content":[{"type":"text","text":"x"}]}`:                   "behind its host",
		`{"type":"button","attrs":{"href":["https://marrowby.example",{"column":"obj"}]},"content":[{"type":"text","text":"x"}]}`:               "behind its host",
		`{"type":"button","attrs":{"href":["data:text/html,",{"column":"obj"}]},"content":[{"type":"text","text":"x"}]}`:                        "begin with https://",
		`{"type":"image","attrs":{"type":"image/svg+xml","data":"PHN2Zy8+","alt":"x"}}`:                                                         "PNG, JPEG or GIF",
		`{"type":"image","attrs":{"type":"image/png","data":"R0lGODlhAQABAAAAACwAAAAAAQABAAACAkQBADs=","alt":"x"}}`:                             "not of type image/png",
		`{"type":"image","attrs":{"type":"image/gif","data":"R0lGODlhAQABAAAAACwAAAAAAQABAAACAkQBADs=","alt":"x","width":900}}`:                 "600 pixels",
		`{"type":"paragraph","content":[{"type":"text","text":"x","marks":[{"type":"colour","attrs":{"colour":"red;background:url(x)"}}]}]}`:    "is not a colour",
		`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"obj","decimals":2}}]}`:                                               "only numbers",
		`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"val","decimals":13}}]}`:                                              "0 to 12",
		`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"due","style":"curly"}}]}`:                                            "not a date style",
		`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"obj","part":"middle"}}]}`:                                            "not a part",
		`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"obj","case":"title"}}]}`:                                             "not a case",
	} {
		tpl := &Template{Name: "x", Subject: body(t, ""), Body: body(t, in)}
		if err := tpl.Validate(s); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", in, err, want)
		}
	}
	for _, in := range []string{`{"type":"field","attrs":{"column":"obj","colour":"red"}}`,
		`{"type":"image","attrs":{"src":"https://elsewhere.example/x.png"}}`,
		`{"type":"button","attrs":{"href":7}}`, `{"type":"rowTable","attrs":{"columns":["obj"]}}`,
		`{"type":"part","attrs":{"unless":{}}}`} {
		var n Node
		if json.Unmarshal([]byte(in), &n) == nil {
			t.Errorf("%s is read", in)
		}
	}
	deep := `{"type":"paragraph"}`
	for range 20 {
		deep = `{"type":"bulletList","content":[{"type":"listItem","content":[` + deep + `]}]}`
	}
	if err := (&Template{Name: "x", Subject: body(t, ""), Body: body(t, deep)}).Validate(s); err == nil ||
		!strings.Contains(err.Error(), "too deeply") {
		t.Errorf("20 lists in each other: %v", err)
	}
}

// turned is a value that runs against the letter.
var (
	turned = regexp.MustCompile(`<span dir="(?:rtl|ltr)">([^<]*)</span>`)
	alts   = regexp.MustCompile(`alt="[^"]*"`)
)

var links = regexp.MustCompile(`href="([^"]*)"`)

// No value adds a tag, an attribute or another target to any block: the tags
// and the hosts of the links are those of harmless values.
func FuzzBlocks(f *testing.F) {
	s := loans()
	tpl := &Template{Name: "x", Subject: body(f, ""),
		Body: body(f, strings.ReplaceAll(whole, `"op":"empty"`, `"op":"filled"`))}
	if err := tpl.Validate(s); err != nil {
		f.Fatal(err)
	}
	rendered := func(obj, con string) Rendered {
		return tpl.Render(Context{Sheet: s, Row: &sheet.Row{ID: "1", Cells: []value.Value{value.OfText(obj),
			value.OfText(con)}}})
	}
	plain := rendered("a", "b")
	tags := func(html string) string {
		html = turned.ReplaceAllString(alts.ReplaceAllString(links.ReplaceAllString(html, ""), ""), "$1")
		return strings.Join(tag.FindAllString(html, -1), "\n")
	}
	for _, seed := range []string{"x", `"><script>`, "//elsewhere.example", "\r\nBcc: x@y.example", "%00",
		"@elsewhere.example/", "' onclick='x", "\u202e"} {
		f.Add(seed, seed)
	}
	f.Fuzz(func(t *testing.T, obj, con string) {
		if value.OfText(obj).IsEmpty() || value.OfText(con).IsEmpty() || strings.ContainsAny(obj+con, "\r\n") {
			return // a line break is written as <br>
		}
		r := rendered(obj, con)
		if tags(r.HTML) != tags(plain.HTML) {
			t.Errorf("%q, %q add a tag:\n%s", obj, con, r.HTML)
		}
		for _, m := range links.FindAllStringSubmatch(r.HTML, -1) {
			if m[1] == OptOutMark {
				continue
			}
			if !strings.HasPrefix(m[1], "https://loans.marrowby.example/") ||
				strings.ContainsAny(m[1][len("https://loans.marrowby.example/"):], "@<>'\" ") {
				t.Errorf("%q, %q lead to %s", obj, con, m[1])
			}
		}
	})
}
