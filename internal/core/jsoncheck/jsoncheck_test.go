package jsoncheck

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestCheck(t *testing.T) {
	for _, x := range []struct{ name, text, want string }{
		{"an object", `{"a":[1,2,{"b":null}],"c":"x"}`, ""},
		{"a text", `"plain"`, ""},
		{"a pair", `"\ud83c\udfdb and \u00e9"`, ""},
		{"a backslash before a u", `"\\ud83c"`, ""},
		{"brackets in a text", `"` + strings.Repeat("[", 100) + `"`, ""},
		{"as deep as may be", strings.Repeat("[", MaxDepth) + strings.Repeat("]", MaxDepth), ""},
		{"the same name in two objects", `[{"a":1},{"a":2},{"b":{"a":1},"a":2}]`, ""},
		{"a name as a value", `{"a":"a","b":["a","a"]}`, ""},
		{"one too deep", strings.Repeat("[", MaxDepth+1) + strings.Repeat("]", MaxDepth+1), "deeper than 64, at byte 65"},
		{"4,000 nested", strings.Repeat(`{"not":`, 4000) + "1" + strings.Repeat("}", 4000), "deeper"},
		{"nothing", ``, "no JSON"},
		{"cut short", `{"a":`, "no JSON"},
		{"more behind it", `{} {}`, "no JSON"},
		{"half a pair", `"\ud83c"`, "half a character"},
		{"the other half", `"\udfdb"`, "half a character"},
		{"two first halves", `"\ud83c\ud83c"`, "half a character"},
		{"half a pair before an escape", `"\ud83c\n"`, "half a character"},
		{"no UTF-8", "\"a\xff\"", "no UTF-8, at byte 3"},
		{"a surrogate in UTF-8", "\"\xed\xa0\x80\"", "no UTF-8"},
		{"a name twice", `{"a":1,"a":2}`, `"a" stands twice`},
		{"a name twice, written in two ways", `{"a":1,"\u0061":2}`, `"a" stands twice`},
		{"a name twice, deeper", `[{"b":{"x":[],"x":{}}}]`, `"x" stands twice`},
	} {
		t.Run(x.name, func(t *testing.T) {
			err := Check([]byte(x.text))
			if (err == nil) != (x.want == "") || err != nil && !strings.Contains(err.Error(), x.want) {
				t.Errorf("got %v, want %q", err, x.want)
			}
		})
	}
}

// What is let through is JSON; what is refused has a place in the text.
func FuzzCheck(f *testing.F) {
	for _, s := range []string{`{"a":[1,"\ud83c\udfdb"]}`, `"\ud83c"`, `{"a":1,"a":2}`, `[[[`, "\xff", `"\u00`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		err := Check(b)
		if err == nil && !json.Valid(b) {
			t.Fatalf("%q is let through", b)
		}
		if e, ok := err.(*Error); ok && (e.Offset < 0 || e.Offset > len(b)) {
			t.Fatalf("%q: %v", b, err)
		}
	})
}
