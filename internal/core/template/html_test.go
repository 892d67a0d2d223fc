package template

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
)

func namesOf(t testing.TB) func(string) string {
	s := loans()
	return func(id string) string {
		c, ok := s.Column(id)
		if !ok {
			t.Fatalf("there is no column %s", id)
		}
		return c.Name
	}
}

// A letter written as HTML and read again is the same.
func TestHTMLThereAndBack(t *testing.T) {
	s := loans()
	n := body(t, strings.Replace(strings.ReplaceAll(whole, `"data":"R0lGODlhAQABAAAAACwAAAAAAQABAAACAkQBADs="`,
		`"file":"`+strings.Repeat("ab", 32)+`"`), `"text":"late"`, `"text":"late [or] \\ <b> & not"`, 1)+
		`,{"type":"bulletList","content":[{"type":"listItem","content":[{"type":"paragraph","content":[{"type":"text","text":"pack"}]},{"type":"orderedList","content":[{"type":"listItem","content":[{"type":"paragraph","content":[{"type":"text","text":"crate"}]}]}]}]}]},{"type":"signature"},{"type":"piece","attrs":{"piece":"p1"}}`)
	src := ToHTML(n, namesOf(t))
	again, removed, err := FromHTML(src, s)
	if err != nil || len(removed) > 0 {
		t.Fatalf("%v, removed %v\n%s", err, removed, src)
	}
	a, _ := json.Marshal(n)
	b, _ := json.Marshal(again)
	if string(a) != string(b) {
		t.Errorf("was\n%s\nis\n%s\nby\n%s", a, b, src)
	}
}

// What a letter cannot have is taken out, and said.
func TestHTMLCleaned(t *testing.T) {
	for _, c := range []struct {
		src, want string // the text form of what is left, paragraph by paragraph
		removed   []string
	}{
		{`<p>Dear [Contact: first word]</p>`, "Dear [Contact: first word]", nil},
		{`Loose words<p>and a paragraph</p>`, "Loose words|and a paragraph", nil},
		{`<script>alert(1)</script><p onclick="x()">Hello</p>`, "Hello", []string{"<script>", "onclick"}},
		{`<style>p{}</style><p style="font-size:90px;text-align:center">Hello</p>`, "Hello",
			[]string{"<style>", "style font-size"}},
		{`<p><a href="javascript:alert(1)">click</a></p>`, "click",
			[]string{"a link to nowhere, or of a kind that email programs do not follow"}},
		{`<p>A<img src="https://elsewhere.example/x.png"></p>`, "A",
			[]string{"an image from elsewhere; upload it to use it"}},
		{`<form><input name="x">secret</form><p>B</p>`, "B", []string{"<form>"}},
		{`<iframe src="https://x.example"></iframe><div>C<div>D</div></div>`, "C|D", []string{"<iframe>"}},
		{`<div data-block="part" data-attrs="{">E</div>`, "E", []string{"a div whose data-block or data-attrs say nothing"}},
		{`<svg onload="x()"><circle/></svg><p>F</p>`, "F", []string{"<svg>"}},
		{``, "", nil},
	} {
		n, removed, err := FromHTML(c.src, loans())
		if err != nil {
			t.Errorf("%s: %v", c.src, err)
			continue
		}
		var got []string
		for _, b := range n.Content {
			got = append(got, FormatInline(b.Content, namesOf(t)))
		}
		if strings.Join(got, "|") != c.want || !slices.Equal(removed, c.removed) {
			t.Errorf("%s: %q, removed %q; want %q, %q", c.src, got, removed, c.want, c.removed)
		}
	}
	for src, want := range map[string]string{`<p>Dear [Nobody]</p>`: `there is no column "Nobody"`,
		strings.Repeat("x", maxHTML+1): "up to 1024 kB"} {
		if _, _, err := FromHTML(src, loans()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// Whatever is read as HTML is a letter that can be saved, but for what its attributes name, and
// what is left is read again as the same.
func FuzzFromHTML(f *testing.F) {
	s := loans()
	for _, seed := range []string{"<p>a</p>", "<ul><li>a<ol><li>b</ul>", "<table><tr><td>a<td>b<tr><th>c</table>",
		`<a class="button" href="https://x.example/[Object]">Go</a>`,
		`<p><a class="button" href="https://x.example/">[Object]</a></p>`,
		`<div data-block="part" data-attrs='{"if":{"column":"obj","op":"filled"}}'><h4>x</h4></div>`,
		"<blockquote><table><tr><td>x", "[[", `<b><i>a</b>c</i>`, "<li>x"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, src string) {
		n, _, err := FromHTML(src, s)
		if err != nil {
			return
		}
		tpl := &Template{Name: "x", Subject: Node{Type: Doc}, Body: n}
		if err := tpl.ValidateDraft(s); err != nil && !strings.Contains(err.Error(), "image") &&
			!strings.Contains(err.Error(), "colour") && !strings.Contains(err.Error(), "field") &&
			!strings.Contains(err.Error(), "column") && !strings.Contains(err.Error(), "table") &&
			!strings.Contains(err.Error(), "condition") && !strings.Contains(err.Error(), "deeply") &&
			!strings.Contains(err.Error(), "only") &&
			!strings.Contains(err.Error(), "date style") && !strings.Contains(err.Error(), "alignment") {
			t.Errorf("%q gives what cannot be saved: %v", src, err)
		}
		for _, bad := range []string{"<script", "javascript:", "onclick", "<iframe"} {
			if out := ToHTML(n, func(id string) string { return id }); strings.Contains(strings.ToLower(out),
				"<"+strings.TrimPrefix(bad, "<")) && strings.HasPrefix(bad, "<") {
				t.Errorf("%q keeps %s: %s", src, bad, out)
			}
		}
	})
}
