package template

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"slices"
	"strings"
	"testing"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

func lineOf(t testing.TB, text string, s *sheet.Sheet) Node {
	t.Helper()
	n, err := ParseLine(text, s)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return n
}

// Section 6: every style of a field in eight languages.
func TestFieldStyles(t *testing.T) {
	styles := []string{"[Return due: short]", "[Return due]", "[Return due: long]", "[Return due: weekday]",
		"[Return due: iso]", "[Return due: days from now]", "[Value]",
		"[Value: 2 decimals, thousands]", "[Value: thousands, currency €]", "[today: long]"}
	for _, c := range []struct {
		locale string
		want   []string
	}{
		{"en-GB", []string{"29/03/2027", "29 Mar 2027", "29 March 2027", "Monday 29 March", "2027-03-29", "7 days",
			"12400.5", "12,400.50", "€12,400.5", "22 March 2027"}},
		{"en-US", []string{"3/29/2027", "Mar 29, 2027", "March 29, 2027", "Monday, March 29", "2027-03-29", "7 days",
			"12400.5", "12,400.50", "€12,400.5", "March 22, 2027"}},
		{"de", []string{"29.3.2027", "29.03.2027", "29. März 2027", "Montag, 29. März", "2027-03-29", "7 Tage", "12400,5",
			"12.400,50", "12.400,5\u00a0€", "22. März 2027"}},
		{"fr", []string{"29/03/2027", "29 mars 2027", "29 mars 2027", "lundi 29 mars", "2027-03-29", "7 jours", "12400,5",
			"12\u202f400,50", "12\u202f400,5\u00a0€", "22 mars 2027"}},
		{"es", []string{"29/3/2027", "29 mar. 2027", "29 de marzo de 2027", "lunes, 29 de marzo", "2027-03-29", "7 días",
			"12400,5", "12.400,50", "12.400,5\u00a0€", "22 de marzo de 2027"}},
		{"nl", []string{"29-3-2027", "29 mrt. 2027", "29 maart 2027", "maandag 29 maart", "2027-03-29", "7 dagen", "12400,5",
			"12.400,50", "€\u00a012.400,5", "22 maart 2027"}},
		{"ja", []string{"2027/3/29", "2027/03/29", "2027年3月29日", "3月29日月曜日", "2027-03-29", "7 日", "12400.5", "12,400.50",
			"€12,400.5", "2027年3月22日"}},
		{"ar", nil},
	} {
		t.Run(c.locale, func(t *testing.T) {
			s := loans()
			s.Locale, _ = value.FindLocale(c.locale)
			row := &sheet.Row{ID: "1"}
			for id, v := range map[string]value.Value{"due": value.OfDay(value.DayOf(2027, 3, 29)),
				"val": value.Parse("12400.5", value.Reading{Type: value.Number})} {
				col, _ := s.Column(id)
				row.Set(col, v)
			}
			for i, style := range styles {
				tpl := &Template{Name: "x", Subject: lineOf(t, style, s), Body: Node{Type: Doc}}
				if err := tpl.Validate(s); err != nil {
					t.Fatalf("%s: %v", style, err)
				}
				got := tpl.Render(Context{Sheet: s, Row: row, Today: value.DayOf(2027, 3, 22)}).Subject
				switch {
				case c.want != nil && got != c.want[i]:
					t.Errorf("%s: %q, want %q", style, got, c.want[i])
				case c.want == nil && (got == "" || strings.Contains(got, "Mar")):
					t.Errorf("%s: %q is not written in %s", style, got, c.locale)
				}
			}
		})
	}
}

// What is written of a field is read again as the same.
func TestFieldWordsReadBack(t *testing.T) {
	s := loans()
	for _, in := range []string{"[Value: 2 decimals, thousands]", "[Value: no thousands, no currency]",
		"[Value: currency CHF]", "[Object: column name]", "[Contact: leave out]", "[today: long]",
		"[row key]", "[sender]", "[opt-out link]", "[Contact: first word, upper, else a, b]"} {
		n := lineOf(t, in, s)
		out := FormatInline(n.Content[0].Content, func(id string) string { c, _ := s.Column(id); return c.Name })
		if out != in {
			t.Errorf("%s is written as %s", in, out)
		}
	}
}

// Section 6: for want of a field its sentence is left out, and a block of nothing else with it.
func TestSentencesLeftOut(t *testing.T) {
	s := loans()
	s.Columns[5].Name = "Odd"
	for _, c := range []struct{ in, filled, empty string }{
		{"Dear all. [Contact: leave out] will call. Bye.", "Dear all. Ada will call. Bye.", "Dear all. Bye."},
		{"[Contact: leave out] will call.", "Ada will call.", ""},
		{"It is 3.5 m long, says [Contact: leave out]! Good.", "It is 3.5 m long, says Ada! Good.", "Good."},
		{"Is “it so?” Ask [Contact: leave out].", "Is “it so?” Ask Ada.", "Is “it so?”"},
		{"One\n[Contact: leave out]\nTwo", "One\nAda\nTwo", "One\nTwo"},
		{"彼は来ます。[Contact: leave out]も。はい。", "彼は来ます。Adaも。はい。", "彼は来ます。はい。"},
		{"[Object]. [Contact: leave out].", "Oak. Ada.", "Oak."},
		{"Both [Contact: leave out] and [Odd: leave out]. Bye.", "Bye.", "Bye."},
		{"End [Contact: leave out]", "End Ada", ""},
	} {
		tpl := &Template{Name: "x", Subject: lineOf(t, "x", s)}
		var err error
		if tpl.Body, err = ParseText("First.\n\n"+c.in, s); err != nil {
			t.Fatal(err)
		}
		if err := tpl.Validate(s); err != nil {
			t.Fatal(err)
		}
		for contact, want := range map[string]string{"Ada": c.filled, "": c.empty} {
			row := rowOf(s, map[string]string{"obj": "Oak", "con": contact})
			r := tpl.Render(Context{Sheet: s, Row: row})
			got := strings.TrimRight(strings.TrimPrefix(r.Text, "First.\n\n"), " \n")
			if got = strings.TrimPrefix(got, "First."); got != want || len(r.Missing) > 0 {
				t.Errorf("%q with %q: %q, missing %v; want %q", c.in, contact, got, r.Missing, want)
			}
			if want == "" && strings.Count(r.HTML, "<p ") != 1 {
				t.Errorf("%q: an empty paragraph stands in %s", c.in, r.HTML)
			}
			if tpl.Lacks(Context{Sheet: s, Row: row}) {
				t.Errorf("%q with %q is said to lack something", c.in, contact)
			}
		}
	}
	bad := lineOf(t, "[Contact: leave out]", s)
	words := "x"
	bad.Content[0].Content[0].Field.Fallback = &words
	if err := (&Template{Name: "x", Subject: bad, Body: Node{Type: Doc}}).Validate(s); err == nil {
		t.Error("a field is left out and has other words")
	}
}

// A round-up's table is ordered by its columns, empty ones last, and cut at its limit.
func TestRoundUpOrderAndLimit(t *testing.T) {
	s := loans()
	var rows []*sheet.Row
	for _, v := range [][2]string{{"C", "20"}, {"A", ""}, {"B", "3"}, {"D", "20"}} {
		rows = append(rows, rowOf(s, map[string]string{"obj": v[0], "val": v[1]}))
	}
	for _, c := range []struct{ attrs, want string }{
		{`"order":[{"column":"val"}]`, "- B\n- C\n- D\n- A\n"},
		{`"order":[{"column":"val","descending":true},{"column":"obj","descending":true}]`, "- D\n- C\n- B\n- A\n"},
		{`"order":[{"column":"obj"}],"limit":2,"more":"and [number] more"`, "- A\n- B\nand 2 more\n"},
		{`"limit":4,"more":"and [number] more"`, "- C\n- A\n- B\n- D\n"},
	} {
		tpl := &Template{Name: "x", Subject: body(t, ""),
			Body: body(t, `{"type":"roundUpTable","attrs":{"fields":[{"column":"obj"}],`+c.attrs+`}}`)}
		if err := tpl.Validate(s); err != nil {
			t.Fatal(err)
		}
		r := tpl.Render(Context{Sheet: s, Row: rows[0], Rows: rows})
		if r.Text != c.want || strings.Count(r.HTML, "<tr>") != min(strings.Count(c.want, "- "), 4)+3 {
			t.Errorf("%s: %q, want %q\n%s", c.attrs, r.Text, c.want, r.HTML)
		}
	}
	if rows[0].Cells[0].Str != "C" {
		t.Error("the caller's rows were put in another order")
	}
}

// A piece and the signature are said in the letter's language, and as they stand by then.
func para(t testing.TB, text string) Node {
	return body(t, `{"type":"paragraph","content":[{"type":"text","text":"`+text+`"}]}`)
}

func TestPieces(t *testing.T) {
	s := loans()

	hours := &Piece{ID: "p1", Name: "Hours", Body: para(t, "Open at ten."),
		Variants: []PieceVariant{{"de", para(t, "Ab zehn Uhr.")}}}
	sign := &Piece{Name: "signature",
		Body: body(t, `{"type":"paragraph","content":[{"type":"field","attrs":{"of":"sender"}}]}`)}
	letter := body(t, `{"type":"piece","attrs":{"piece":"p1"}},{"type":"signature"}`)
	tpl := &Template{Name: "x", Subject: para(t, "x"), Body: letter, Language: "con",
		Variants: []Variant{{Language: "de-AT", Subject: para(t, "x"), Body: letter}}}
	tpl.Use(Rests{Pieces: map[string]*Piece{"p1": hours}, From: From{Name: "Loans desk", Signature: sign}})
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	for language, want := range map[string]string{"": "Open at ten.\n\nLoans desk\n",
		"de": "Ab zehn Uhr.\n\nLoans desk\n"} {
		if got := tpl.Render(Context{Sheet: s, Row: rowOf(s, map[string]string{"con": language})}).Text; got != want {
			t.Errorf("in %q: %q, want %q", language, got, want)
		}
	}
	tpl.Use(Rests{Pieces: map[string]*Piece{"p1": {ID: "p1", Body: para(t, "Closed.")}}})
	if got := tpl.Render(Context{Sheet: s, Row: rowOf(s, nil)}).Text; got != "Closed.\n" {
		t.Errorf("after the piece has changed: %q", got)
	}
	tpl.Use(Rests{Pieces: map[string]*Piece{}})
	if err := tpl.Validate(s); err == nil || !strings.Contains(err.Error(), "not there any more") {
		t.Errorf("a piece that is gone: %v", err)
	}
	for _, bad := range []string{`{"type":"signature"}`, `{"type":"piece","attrs":{"piece":"p1"}}`,
		`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"obj"}}]}`,
		`{"type":"rowTable","attrs":{"fields":[{"of":"key"}]}}`} {
		if (&Piece{Name: "x", Body: body(t, bad)}).Validate() == nil {
			t.Errorf("%s is accepted in a piece", bad)
		}
	}
}

// A letter in a language that runs from right to left does so as a whole; what runs
// against it is set apart.
func TestRightToLeft(t *testing.T) {
	s := loans()
	text := body(t,
		`{"type":"paragraph","content":[{"type":"text","text":"شكرا "},{"type":"field","attrs":{"column":"obj"}}]},{"type":"quote","content":[{"type":"paragraph"}]}`)
	tpl := &Template{Name: "x", Subject: body(t, ""), Body: text, FirstLanguage: "ar"}
	html := tpl.Render(Context{Sheet: s, Row: rowOf(s, map[string]string{"obj": "Oak"})}).HTML
	for _, want := range []string{`<html lang="ar" dir="rtl">`, `dir="rtl" align="right"`, `<span dir="ltr">Oak</span>`,
		`border-right:3px`} {
		if !strings.Contains(html, want) {
			t.Errorf("lacks %s:\n%s", want, html)
		}
	}
	tpl.FirstLanguage, tpl.ready = "", nil
	html = tpl.Render(Context{Sheet: s, Row: rowOf(s, map[string]string{"obj": "كتاب"})}).HTML
	if !strings.Contains(html, `<span dir="rtl">كتاب</span>`) ||
		!strings.Contains(html, `<html lang="en-GB" dir="ltr">`) {
		t.Error(html)
	}
}

// The preview text stands hidden before the letter, and its fields count for what is missing.
func TestPreheader(t *testing.T) {
	s := loans()
	tpl := &Template{Name: "x", Subject: lineOf(t, "x", s), Preheader: lineOf(t, "For [Contact] & <b>", s),
		Body: body(t, `{"type":"paragraph"}`)}
	r := tpl.Render(Context{Sheet: s, Row: rowOf(s, map[string]string{"con": "Ada"})})
	if !strings.Contains(r.HTML, `mso-hide:all">For Ada &amp; &lt;b&gt;&#847;`) || strings.Contains(r.Text, "Ada") {
		t.Error(r.HTML, r.Text)
	}
	if r := tpl.Check(Context{Sheet: s, Row: rowOf(s, nil)}); !slices.Equal(r.Missing, []string{"con"}) ||
		!tpl.Lacks(Context{Sheet: s, Row: rowOf(s, nil)}) {
		t.Errorf("missing %v", r.Missing)
	}
}

// A variant is older once the first text has changed and it has not.
func TestVariantsGrowOld(t *testing.T) {
	word := func(text string) Node {
		return body(t, `{"type":"paragraph","content":[{"type":"text","text":"`+text+`"}]}`)
	}
	make := func(first, de string) *Template {
		return &Template{Name: "x", Subject: word(first), Body: word(first), Language: "con",
			Variants: []Variant{variant("de", word(de))}}
	}
	v1 := make("Hello", "Hallo")
	v1.Follow(nil, 1)
	v2 := make("Good day", "Hallo")
	v2.Follow(v1, 2)
	v3 := make("Good day", "Guten Tag")
	v3.Follow(v2, 3)
	v4 := make("Good morning", "Guten Tag")
	v4.Follow(v3, 4)
	v5 := make("Good morning", "Guten Tag")
	v5.Variants[0].Of = 5 // somebody says that it still fits
	v5.Follow(v4, 5)
	both := make("Bye", "Tschüss")
	both.Follow(v5, 6)
	for i, c := range []struct {
		t    *Template
		want []string
	}{{v1, []string{}}, {v2, []string{"de"}}, {v3, []string{}}, {v4, []string{"de"}}, {v5, []string{}},
		{both, []string{}}} {
		if got := c.t.Older(); !slices.Equal(got, c.want) {
			t.Errorf("version %d: older are %v, want %v", i+1, got, c.want)
		}
	}
}

// A file is what its name says, or is refused with what is wrong.
func TestReadFile(t *testing.T) {
	for _, c := range []struct{ name, data, typ, fault string }{
		{"Plan.PDF", "%PDF-1.7", "application/pdf", ""}, {"plan.pdf", "<html>", "", "its name says .pdf"},
		{"a.docx", "PK\x03\x04", "application/vnd.openxmlformats-officedocument.wordprocessingml.document", ""},
		{"a.txt", "héllo", "text/plain", ""}, {"a.csv", "a;b\xe9", "text/csv", ""}, {"a.txt", "\x00\xff", "", "is no text"},
		{"a.exe", "MZ", "", "refuse programs"}, {"a.pdf.js", "x", "", "refuse programs"},
		{"renamed.png", "MZ\x90", "", "refuse programs"}, {"empty.txt", "", "", "empty"},
		{"strange.xyz", "abc", "application/octet-stream", ""}, {"page.html", "<p>", "", "refuse programs"},
	} {
		typ, err := ReadFile(c.name, []byte(c.data))
		if typ != c.typ || (err == nil) != (c.fault == "") || err != nil && !strings.Contains(err.Error(), c.fault) {
			t.Errorf("%s: %q, %v; want %q, %q", c.name, typ, err, c.typ, c.fault)
		}
	}
	if _, err := ReadFile("big.pdf", append([]byte("%PDF-"), make([]byte, MaxAttachment)...)); err == nil ||
		!strings.Contains(err.Error(), "up to 10 MB") {
		t.Errorf("a file of more than 10 MB: %v", err)
	}
}

func TestReadImage(t *testing.T) {
	draw := func(w, h int) []byte {
		var b bytes.Buffer
		m := image.NewGray(image.Rect(0, 0, w, h))
		m.Set(0, 0, color.White)
		if err := png.Encode(&b, m); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	if typ, w, h, err := ReadImage(draw(30, 20)); typ != "image/png" || w != 30 || h != 20 || err != nil {
		t.Error(typ, w, h, err)
	}
	whole := draw(30, 20)
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"cut short": {whole[:len(whole)-30], "broken"}, "text": {[]byte("hello"), "no PNG"},
		"svg":    {[]byte("<svg/>"), "no PNG"},
		"a bomb": {draw(60000, 500), "too large"}, "large": {append(whole, make([]byte, MaxImage)...), "up to 1024 kB"},
		"nothing": {nil, "no PNG"},
	} {
		if _, _, _, err := ReadImage(c.data); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

func TestFileNames(t *testing.T) {
	s := loans()
	tpl := &Template{Name: "x", Subject: lineOf(t, "x", s), Body: body(t, `{"type":"paragraph"}`)}
	id := ContentID([]byte("%PDF-"))
	for in, want := range map[string]string{`"notes.pdf"`: "notes.pdf", `["Loan ",{"column":"obj"}]`: "Loan A-B-C.pdf",
		`["../",{"column":"con","fallback":""},".pdf"]`: "-.pdf", `[{"column":"con","fallback":""}]`: "attachment.pdf"} {
		if err := json.Unmarshal(
			[]byte(fmt.Sprintf(`{"attachments":[{"kind":"file","name":%s,"file":%q,"type":"application/pdf","size":5}]}`, in,
				id)), tpl); err != nil {
			t.Fatal(err)
		}
		tpl.ready = nil
		if err := tpl.Validate(s); err != nil {
			t.Fatal(err)
		}
		r := tpl.Render(Context{Sheet: s, Row: rowOf(s, map[string]string{"obj": "A/B\\C"})})
		if len(r.Attachments) != 1 || r.Attachments[0].Name != want {
			t.Errorf("%s: %+v, want %s", in, r.Attachments, want)
		}
	}
	// A name that cannot be written stops the email, like any other field.
	_ = json.Unmarshal(
		[]byte(
			fmt.Sprintf(
				`{"attachments":[{"kind":"file","name":[{"column":"con"}],"file":%q,"type":"application/pdf","size":5}]}`, id)),
		tpl)
	tpl.ready = nil
	if c := (Context{Sheet: s, Row: rowOf(s, nil)}); !tpl.Lacks(c) ||
		!slices.Equal(tpl.Check(c).Missing, []string{"con"}) || !slices.Equal(tpl.Render(c).Missing, []string{"con"}) {
		t.Error("a name's missing field does not count")
	}
}

// An invitation is of its row: the same whenever it is written; without a start the email wants for
// it, or calls the event off.
func TestInvitations(t *testing.T) {
	s := loans()
	s.ID = "s1"
	tpl := &Template{Name: "x", Subject: lineOf(t, "x", s), Body: body(t, `{"type":"paragraph"}`),
		Attachments: []Attachment{{Kind: "invitation", Start: "due", Title: Line{{Text: "Return of "},
			{Field: &Field{Column: "obj"}}}, Name: Line{{Text: "invitation"}}}}}
	tpl.Use(Rests{From: From{Name: "Desk", Address: "desk@marrowby.example"}})
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	to := []value.Mailbox{{Local: "a", Domain: "b.example"}}
	at := func(cells map[string]string) Rendered {
		return tpl.Render(Context{Sheet: s, Row: rowOf(s, cells), To: to})
	}
	first, moved := at(map[string]string{"obj": "Oak", "due": "29/03/2027"}),
		at(map[string]string{"obj": "Oak", "due": "30/03/2027"})
	a, b := first.Attachments[0], moved.Attachments[0]
	if a.Name != "invitation.ics" || a.Event.Title != "Return of Oak" || !a.Event.AllDay ||
		a.Event.End.Day != a.Event.Start.Day+1 || a.Event.UID != b.Event.UID || a.Event.Start == b.Event.Start ||
		len(a.Event.To) != 1 {
		t.Errorf("%+v\n%+v", a.Event, b.Event)
	}
	row := map[string]string{"obj": "Oak"}
	cx := Context{Sheet: s, Row: rowOf(s, row)}
	if r := at(row); !slices.Equal(r.Missing, []string{"due"}) || !slices.Equal(tpl.Check(cx).Missing, []string{"due"}) ||
		!tpl.Lacks(cx) {
		t.Errorf("without a date: %v", r.Missing)
	}
	tpl.Attachments[0].Cancel, tpl.ready = true, nil
	if r := at(row); len(r.Missing) > 0 || tpl.Lacks(cx) || !r.Attachments[0].Event.Cancel ||
		r.Attachments[0].Event.UID != a.Event.UID || !strings.Contains(r.Attachments[0].Type, "CANCEL") {
		t.Errorf("called off: %+v", r.Attachments[0].Event)
	}
	for _, bad := range []Attachment{{Kind: "invitation", Title: Line{{Text: "x"}}}, {Kind: "invitation", Start: "obj",
		Title: Line{{Text: "x"}}}, {Kind: "invitation", Start: "due"}, {Kind: "invitation", Start: "due", End: "obj",
		Title: Line{{Text: "x"}}}} {
		tpl.Attachments = []Attachment{bad}
		if tpl.Validate(s) == nil {
			t.Errorf("%+v is accepted", bad)
		}
	}
}

// zipped packs files with the names.
func zipped(t *testing.T, names ...string) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, n := range names {
		w, err := z.Create(n)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = w.Write([]byte("x"))
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// What mail servers refuse is refused by its name, however that is written, and by its content, whatever it is called.
func TestProgramsAreRefused(t *testing.T) {
	for _, name := range strings.Fields(`a.exe A.EXE a.exe. a.exe... a.pdf.exe a.xhtml a.xht a.mht a.mhtml a.chm a.wsf a.dll a.docm
		a.xlsm a.pptm a.dotm a.url a.reg a.img a.vhd a.vhdx a.appx a.msix a.apk a.jar a.js a.vbs a.hta a.lnk a.iso a.html a.svg
		a.ps1 a.cpl a.scr a.msi a.library-ms a.dmg a.sh a.py a.xll a.iqy a.one a.website a.txt:b.exe a.exe:x.txt a.pif a.com`) {
		if typ, err := ReadFile(name, []byte("words")); err == nil || !strings.Contains(err.Error(), "mail servers refuse") {
			t.Errorf("%s: %s %v", name, typ, err)
		}
	}
	for name, data := range map[string]string{
		"spaces.exe  ": "words", "dots and spaces.exe. . ": "words", "a\u202efdp.exe": "words", "a.e\u200bxe": "words",
		"program": "MZ\x90", "program.txt": "MZ\x90", "mach-o": "\xcf\xfa\xed\xfe", "script": "#!/bin/sh\n", "linux.csv": "\x7fELF",
		"help": "ITSF\x03", "disk": strings.Repeat("\x00", 0x8001) + "CD001" + "\x01 and on", "hard disk": "conectix",
		"shortcut": "L\x00\x00\x00\x01\x14\x02\x00", "link.txt": "[InternetShortcut]\r\nURL=x", "settings.txt": "REGEDIT4\r\n",
		"page": "\ufeff \r\n<!DOCTYPE html><p>", "page.xml": `<?xml version="1.0"?><html xmlns="http://www.w3.org/1999/xhtml">`,
		"drawing.xml": `<svg xmlns="http://www.w3.org/2000/svg">`, "styled.xml": `<?xml-stylesheet href="x"?>`,
		"archived": "MIME-Version: 1.0\r\n", "scripted.dat": "x <script>alert(1)</script>",
		"macros.docx": zipped(t, "word/document.xml", "word/vbaProject.bin"), "phone.zip": zipped(t, "AndroidManifest.xml"),
		"packed.zip": zipped(t, "letters/a.pdf", "letters/b.js"), "store.zip": zipped(t, "AppxManifest.xml"),
		"java.zip": zipped(t, "META-INF/MANIFEST.MF"),
	} {
		if typ, err := ReadFile(name, []byte(data)); err == nil || !strings.Contains(err.Error(), "mail servers refuse") {
			t.Errorf("%q: %s %v", name, typ, err)
		}
	}
	for name, data := range map[string]string{
		"plan.pdf": "%PDF-1.4", "notes.txt": "<b>bold</b>", "rows.csv": "a,b", "data.xml": "<loans/>", "letter.docx": zipped(t,
			"word/document.xml", "docProps/app.xml"), "table.xlsx": zipped(t, "xl/workbook.xml", "xl/printerSettings/printerSettings1.bin"),
		"letters.zip": zipped(t, "a.pdf", "b/c.png"), "text.odt": zipped(t, "content.xml", "META-INF/manifest.xml"),
		"com": "words", "sheet.numbers": "anything", "Company.": "words", "report v1.2": "words",
	} {
		if _, err := ReadFile(name, []byte(data)); err != nil {
			t.Errorf("%q: %v", name, err)
		}
	}
}
