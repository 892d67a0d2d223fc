package value

import (
	"strings"
	"testing"
)

func TestNames(t *testing.T) {
	long := strings.Repeat("é", MaxName)
	for name, want := range map[string]string{
		"Return reminder": "", long: "", " ": "a rule needs a name", "": "a rule needs a name",
		long + "x": "a name has 120 characters at the most; this one has 121",
	} {
		got := ""
		if err := CheckName("a rule", name); err != nil {
			got = err.Error()
		}
		if got != want {
			t.Errorf("%.20q: %q, want %q", name, got, want)
		}
	}
	for name, want := range map[string]string{"Loans": "Loans, copy", long: strings.Repeat("é", MaxName-6) + ", copy"} {
		got := NameWith(name, ", copy")
		if got != want || CheckName("a sheet", got) != nil {
			t.Errorf("%.20q: %q, want %q", name, got, want)
		}
	}
}
