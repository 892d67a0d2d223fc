package rule_test

import (
	"fmt"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// A rule is JSON, and says itself as a sentence.
func ExampleRule_Sentence() {
	locale, err := value.FindLocale("en-GB")
	if err != nil {
		fmt.Println(err)
		return
	}
	loans := &sheet.Sheet{Zone: time.UTC, Locale: locale, Columns: []sheet.Column{
		{ID: "c1", Name: "Return due", Type: value.Date}, {ID: "c2", Name: "Contact email", Type: value.Email}}}
	r, err := rule.Decode(
		[]byte(
			`{"name":"Return reminder","trigger":{"kind":"date","column":"c1","offsets":[{"n":-7,"unit":"days"}],"at":"09:00"},
		"send":[{"template":"t1"}],"to":[{"column":"c2"}]}`))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(rule.Text(r.Sentence(loans, func(string) string { return "Return" })))
	// Output: 7 days before return due at 09:00, write Return to contact email.
}
