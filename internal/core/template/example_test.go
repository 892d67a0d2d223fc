package template_test

import (
	"fmt"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// A template is written as text with fields, and rendered for a row as HTML and as plain text. A
// field without a value and without a fallback is missing.
func ExampleTemplate_Render() {
	locale, err := value.FindLocale("en-GB")
	if err != nil {
		fmt.Println(err)
		return
	}
	loans := &sheet.Sheet{Zone: time.UTC, Locale: locale,
		Columns: []sheet.Column{{ID: "c1", Name: "Object", Type: value.Text},
			{ID: "c2", Name: "Contact", Type: value.Text, Pos: 1}, {ID: "c3", Name: "Return due", Type: value.Date, Pos: 2}}}
	t := &template.Template{Name: "Return"}
	if t.Subject, err = template.ParseLine("[Object] is due back on [Return due: weekday]", loans); err != nil {
		fmt.Println(err)
		return
	}
	if t.Body, err = template.ParseText("Dear [Contact: first word, else colleague],\n\nplease bring [Object] back.",
		loans); err != nil {
		fmt.Println(err)
		return
	}
	row := &sheet.Row{}
	object, _ := loans.Column("c1")
	row.Set(object, value.OfText("Oak bellows"))
	out := t.Render(template.Context{Sheet: loans, Row: row, Today: value.DayOf(2027, 3, 22)})
	fmt.Print(out.Text)
	fmt.Println("missing:", out.Missing)
	// Output:
	// Dear colleague,
	//
	// please bring Oak bellows back.
	// missing: [c3]
}
