package value

import (
	"fmt"
	"unicode/utf8"
)

// MaxName is how many characters a name has at the most.
const MaxName = 120

// CheckName says what is wrong with the name of something: that there is none, or
// that it is too long. what is the thing with its article.
func CheckName(what, name string) error {
	if Trim(name) == "" {
		return fmt.Errorf("%s needs a name", what)
	}
	if n := utf8.RuneCountInString(name); n > MaxName {
		return fmt.Errorf("a name has %d characters at the most; this one has %d", MaxName, n)
	}
	return nil
}

// NameWith gives a name with something after it, the name cut so that both fit.
func NameWith(name, after string) string {
	runes := []rune(name)
	room := max(0, MaxName-utf8.RuneCountInString(after))
	return string(runes[:min(len(runes), room)]) + after
}
