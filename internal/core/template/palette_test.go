package template

import (
	"os"
	"regexp"
	"strings"
	"testing"
)

// The editor offers the palette's colours, all of them and no others, in the same order.
func TestEditorHasThePalette(t *testing.T) {
	b, err := os.ReadFile("../../../web/src/places/templates/schema.ts")
	if err != nil {
		t.Fatal(err)
	}
	_, list, _ := strings.Cut(string(b), "export const palette = [")
	list, _, _ = strings.Cut(list, "]")
	var got, want []string
	for _, m := range regexp.MustCompile(`name: "(\w+)", colour: "(#\w+)"`).FindAllStringSubmatch(list, -1) {
		got = append(got, m[1]+" "+m[2])
	}
	for _, p := range Palette {
		want = append(want, p.Name+" "+p.Light)
	}
	if strings.Join(got, ", ") != strings.Join(want, ", ") {
		t.Errorf("the editor offers %v, the palette has %v", got, want)
	}
}

// Each value that is looked at says of which field it is, and the letter is otherwise the same.
func TestPointing(t *testing.T) {
	s := loans()
	tpl := &Template{Name: "x", Subject: lineOf(t, "About [Object]", s),
		Body: body(t,
			`{"type":"paragraph","content":[{"type":"field","attrs":{"column":"obj","case":"upper"}},{"type":"text","text":" "},{"type":"field","attrs":{"column":"con","fallback":"a \"colleague\""}}]}`)}
	row := rowOf(s, map[string]string{"obj": "Bell <b>"})
	plain, pointed := tpl.Render(Context{Sheet: s, Row: row}), tpl.Render(Context{Sheet: s, Row: row, Pointing: true})
	for _, want := range []string{`<span style="cursor:help" title="[Object: upper]">BELL &lt;B&gt;</span>`,
		`title="[Contact: else a &#34;colleague&#34;]">a &#34;colleague&#34;</span>`} {
		if !strings.Contains(pointed.HTML, want) {
			t.Errorf("no %s in\n%s", want, pointed.HTML)
		}
	}
	bare := regexp.MustCompile(`<span style="cursor:help" title="[^"]*">([^<]*)</span>`).ReplaceAllString(pointed.HTML,
		"$1")
	if bare != plain.HTML || pointed.Text != plain.Text || pointed.Subject != plain.Subject {
		t.Errorf("pointing changes the letter:\n%s\n%s", bare, plain.HTML)
	}
}
