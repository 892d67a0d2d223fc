package template

import (
	"encoding/json"
	"html"
	"regexp"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

func loans() *sheet.Sheet {
	l, _ := value.FindLocale("en-GB")
	return &sheet.Sheet{Zone: time.UTC, Locale: l, Columns: []sheet.Column{
		{ID: "obj", Name: "Object", Type: value.Text, Pos: 0}, {ID: "con", Name: "Contact", Type: value.Text, Pos: 1},
		{ID: "due", Name: "Return due", Type: value.Date, Pos: 2, Order: value.DayMonthYear},
		{ID: "val", Name: "Value", Type: value.Number, Pos: 3},
		{ID: "conmail", Name: "Contact: mail", Type: value.Email, Pos: 4}, {ID: "odd", Name: "Odd ] name", Type: value.Text,
			Pos: 5},
	}}
}

func render(t testing.TB, subject, body string, cells map[string]string) Rendered {
	s := loans()
	sub, err := ParseLine(subject, s)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := ParseText(body, s)
	if err != nil {
		t.Fatal(err)
	}
	row := &sheet.Row{}
	for id, text := range cells {
		c, _ := s.Column(id)
		row.Set(c, value.Parse(text, s.Reading(c)))
	}
	tpl := &Template{Name: "x", Subject: sub, Body: doc}
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	return tpl.Render(Context{Sheet: s, Row: row, Today: value.DayOf(2027, 3, 22)})
}

// Section 6: the words of a field.
func TestFieldWords(t *testing.T) {
	cells := map[string]string{"obj": "Oak bellows", "con": " Ada  Quill ", "due": "29/03/2027", "val": "4200.5",
		"conmail": "a@b.example", "odd": "o"}
	for in, want := range map[string]string{
		"[Object]": "Oak bellows", "[ object ]": "Oak bellows", "[Contact: first word]": "Ada",
		"[Contact: last word, upper]": "QUILL",
		"[Object: lower]":             "oak bellows", "[Return due]": "29 Mar 2027", "[Return due: short]": "29/03/2027",
		"[Return due: weekday]": "Monday 29 March",
		"[Return due: iso]":     "2027-03-29", "[Return due: days from now]": "7 days", "[Value]": "4200.5",
		"[Value: 2 decimals]": "4200.50",
		"[Contact: mail]":     "a@b.example", "[[Object]": "[Object]", `\[Object] \\ ]`: `[Object] \ ]`,
		`[Odd \] name]`:                         "o",
		"[Contact: first word, else colleague]": "Ada",
	} {
		if got := render(t, in, "", cells).Subject; got != want {
			t.Errorf("%s: %q, want %q", in, got, want)
		}
	}
	for in, want := range map[string]string{"Dear [Contact: first word, else colleague, friend]": "Dear colleague, friend", `[Contact: else a\]b]`: "a]b", "[Contact]!": "!"} {
		r := render(t, in, "", nil)
		if r.Subject != want || (len(r.Missing) == 1) != (in == "[Contact]!") {
			t.Errorf("%s: %q, missing %v", in, r.Subject, r.Missing)
		}
	}
	if r := render(t, "[Return due]", "", map[string]string{"due": "soon"}); len(r.Missing) != 1 {
		t.Error("unreadable counts as a value")
	}
}

func TestSyntaxErrors(t *testing.T) {
	for in, want := range map[string]string{
		"a\nb [Objct]":           `line 2, column 4: there is no column "Objct"`,
		"[Object":                "line 1, column 1: the bracket is not closed",
		"[Object: loud]":         `line 1, column 10: "loud" is not a word`,
		"[Object: upper, bold]":  `line 1, column 17: "bold" is not a word`,
		"é [Value: 99 decimals]": `line 1, column 11: "99 decimals"`,
	} {
		if _, err := ParseText(in, loans()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", in, err, want)
		}
	}
}

// A subject is one line whatever the values hold.
// Section 6: a moment in iso, and short by the locale whatever the order in
// which the column is read.
func TestDateStyles(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	w := value.Wall{Day: value.DayOf(2027, 3, 29), Second: 14*3600 + 30*60}
	sh := &sheet.Sheet{Zone: time.UTC, Locale: l, Columns: []sheet.Column{{ID: "d", Name: "Due", Type: value.Date,
		Order: value.YearMonthDay}, {ID: "m", Name: "Read", Type: value.Moment, Order: value.MonthDayYear, Pos: 1}}}
	row := &sheet.Row{Cells: []value.Value{value.Parse("2027-03-29", sh.Reading(&sh.Columns[0])), value.OfMoment(w)}}
	for text, want := range map[string]string{"[Due: short]": "29/03/2027", "[Read: short]": "29/03/2027, 14:30",
		"[Read: iso]": "2027-03-29, 14:30", "[Due: iso]": "2027-03-29", "[Read]": "29 Mar 2027, 14:30"} {
		n, err := ParseLine(text, sh)
		if err != nil {
			t.Fatal(err)
		}
		tpl := &Template{Name: "T", Subject: n, Body: Node{Type: Doc}}
		if got := tpl.Render(Context{Sheet: sh, Row: row}).Subject; got != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

func TestSubjectOneLine(t *testing.T) {
	r := render(t, "About [Object]", "x", map[string]string{"obj": "a\r\nBcc: eve@x.example\n\nb\tc"})
	if r.Subject != "About a Bcc: eve@x.example b c" {
		t.Errorf("%q", r.Subject)
	}
}

func TestRenderBlocks(t *testing.T) {
	var doc Node
	err := json.Unmarshal(
		[]byte(`{"type":"doc","content":[{"type":"heading","attrs":{"level":2},"content":[{"type":"text","text":"To do"}]},
		{"type":"bulletList","content":[{"type":"listItem","content":[{"type":"paragraph","content":[{"type":"text","marks":[{"type":"bold"}],"text":"pack"}]}]},
		{"type":"listItem","content":[{"type":"paragraph","content":[{"type":"text","text":"read","marks":[{"type":"link","attrs":{"href":"https://marrowby.example/pack?a=1&b=2","target":null}}]}]}]}]},
		{"type":"orderedList","attrs":{"start":1},"content":[{"type":"listItem","content":[{"type":"paragraph","content":[{"type":"field","attrs":{"column":"obj"}},{"type":"hardBreak"},{"type":"text","text":"<b>"}]}]}]}]}`), &doc)
	if err != nil {
		t.Fatal(err)
	}
	s := loans()
	tpl := &Template{Name: "x", Subject: Node{Type: Doc}, Body: doc}
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	row := &sheet.Row{Cells: []value.Value{value.OfText("Oak & ash")}}
	r := tpl.Render(Context{Sheet: s, Row: row})
	want := "To do\n\n- pack\n- read (https://marrowby.example/pack?a=1&b=2)\n\n1. Oak & ash\n   <b>\n"
	if r.Text != want {
		t.Errorf("%q\nwant\n%q", r.Text, want)
	}
	for _, part := range []string{"<strong>pack</strong>", `href="https://marrowby.example/pack?a=1&amp;b=2"`,
		"Oak &amp; ash<br>&lt;b&gt;"} {
		if !strings.Contains(r.HTML, part) {
			t.Errorf("the HTML lacks %s:\n%s", part, r.HTML)
		}
	}
}

func TestValidateTree(t *testing.T) {
	for in, want := range map[string]string{
		`{"type":"doc","content":[{"type":"script"}]}`:                                                                                                            "cannot stand in",
		`{"type":"doc","content":[{"type":"paragraph","content":[{"type":"paragraph"}]}]}`:                                                                        "cannot stand in",
		`{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"x","marks":[{"type":"link","attrs":{"href":"javascript:alert(1)"}}]}]}]}`: "has to begin with",
		`{"type":"doc","content":[{"type":"paragraph","content":[{"type":"field","attrs":{"column":"gone"}}]}]}`:                                                  "not there any more",
		`{"type":"doc","content":[{"type":"paragraph","content":[{"type":"field","attrs":{"column":"obj","style":"long"}}]}]}`:                                    "only dates",
		`{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"x","marks":[{"type":"blink"}]}]}]}`:                                       "not known",
	} {
		var n Node
		if err := json.Unmarshal([]byte(in), &n); err != nil {
			t.Fatal(err)
		}
		tpl := &Template{Name: "x", Subject: Node{Type: Doc}, Body: n}
		if err := tpl.Validate(loans()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", in, err, want)
		}
	}
}

var tag = regexp.MustCompile(`<[^>]*>`)

// No value adds a tag or a line to the subject: the tags of a letter are those
// of the same letter with harmless values.
func FuzzRender(f *testing.F) {
	f.Add("<script>alert(1)</script>", "Ada")
	f.Add("a\r\nBcc: x@y", "\"><img src=x>")
	f.Fuzz(func(t *testing.T, obj, con string) {
		body := "Dear [Contact: else you],\n\n[Object] and [Object: upper]"
		plain := render(t, "[Object]", body, map[string]string{"obj": "x", "con": "y"})
		r := render(t, "[Object] [Contact: else z]", body, map[string]string{"obj": obj, "con": con})
		if strings.ContainsAny(r.Subject, "\r\n") {
			t.Fatalf("subject %q", r.Subject)
		}
		clean := func(s string) string {
			return strings.Join(tag.FindAllString(strings.ReplaceAll(s, "<br>", ""), -1), "")
		}
		if value.Trim(obj) != "" && clean(r.HTML) != clean(plain.HTML) {
			t.Fatalf("tags differ for %q, %q:\n%s", obj, con, r.HTML)
		}
	})
}

// Parsing never fails otherwise than with a place, and what parses is written
// back to text that parses to the same.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"[Object]", `a [[b] \[ [Contact: first word, else x\]y]`, "[Contact: mail: upper]", "[",
		"[Value: 3 decimals, else ]"} {
		f.Add(s)
	}
	cols := loans()
	f.Fuzz(func(t *testing.T, s string) {
		doc, err := ParseLine(s, cols)
		if err != nil {
			return
		}
		name := func(id string) string {
			c, _ := cols.Column(id)
			return c.Name
		}
		text := FormatInline(doc.Content[0].Content, name)
		again, err := ParseLine(text, cols)
		if err != nil {
			t.Fatalf("%q was written as %q: %v", s, text, err)
		}
		a, _ := json.Marshal(doc)
		b, _ := json.Marshal(again)
		if string(a) != string(b) {
			t.Fatalf("%q\n%s\n%q\n%s", s, a, text, b)
		}
	})
}

func TestEscapedOnce(t *testing.T) {
	r := render(t, "x", "[Object]", map[string]string{"obj": "5 < 6 & 7"})
	if !strings.Contains(r.HTML, html.EscapeString("5 < 6 & 7")) || !strings.Contains(r.Text, "5 < 6 & 7") {
		t.Error(r.HTML)
	}
}
