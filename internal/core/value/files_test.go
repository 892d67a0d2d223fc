package value

import (
	"strings"
	"testing"
)

func TestParseFiles(t *testing.T) {
	for _, c := range []struct{ name, in, want, fault string }{
		{name: "one", in: " plan.pdf ", want: "plan.pdf"},
		{name: "several", in: "a.pdf;b.pdf\nc.pdf;;", want: "a.pdf; b.pdf; c.pdf"},
		{name: "commas belong to the name", in: "Bell, 1790.pdf", want: "Bell, 1790.pdf"},
		{name: "of paths", in: `C:\loans\a.pdf;/home/desk/b.pdf`, want: "a.pdf; b.pdf"},
		{name: "said twice", in: "a.pdf; A.PDF", want: "a.pdf"},
		{name: "a folder", in: "loans/", fault: "is a folder"},
		{name: "up", in: "..", fault: "is a folder"},
		{name: "nothing but signs", in: ";;", fault: "no file is named"},
		{name: "a control character", in: "a\x07.pdf", fault: "is not the name of a file"},
		{name: "too long", in: strings.Repeat("x", 161), fault: "up to 160"},
		{name: "too many", in: strings.Repeat("a;b;c;d;e;f;g;h;i;j;k;l;m;n;o;p;q;r;s;t;u", 1), fault: "up to 20"},
	} {
		t.Run(c.name, func(t *testing.T) {
			v, err := Read(c.in, Reading{Type: File})
			if c.fault != "" {
				if err == nil || !strings.Contains(err.Error(), c.fault) {
					t.Errorf("%v, want %q", err, c.fault)
				}
				return
			}
			if err != nil || v.Str != c.want || strings.Join(v.Files(), "; ") != c.want {
				t.Errorf("%q %v, want %q", v.Str, err, c.want)
			}
		})
	}
}

// What is read stays as it is when it is read again, and names no folder.
func FuzzParseFiles(f *testing.F) {
	for _, s := range []string{"a.pdf; b.pdf", `C:\x\y.txt`, "a;;b\n", "../..", "\u202ex;y"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		v, err := Read(s, Reading{Type: File})
		if err != nil || v.IsEmpty() {
			return
		}
		again, err := Read(v.Str, Reading{Type: File})
		if err != nil || again.Str != v.Str {
			t.Errorf("%q is %q, and that %q (%v)", s, v.Str, again.Str, err)
		}
		for _, n := range v.Files() {
			if strings.ContainsAny(n, "/\\;\n\r") || Trim(n) != n || n == "" {
				t.Errorf("%q names %q", s, n)
			}
		}
	})
}
