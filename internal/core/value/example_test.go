package value_test

import (
	"fmt"

	"nivot/internal/core/value"
)

// A cell is read by its column: its type, and how its locale writes. What cannot be read stays as
// it was typed.
func ExampleParse() {
	german, err := value.FindLocale("de-DE")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(value.Parse("1.234,5", value.Reading{Type: value.Number, Locale: german}).Num)
	fmt.Println(value.Parse("29.3.2027", value.Reading{Type: value.Date, Locale: german}).Wall.Day)
	odd := value.Parse("soon", value.Reading{Type: value.Date, Locale: german})
	fmt.Println(odd.IsUnreadable(), odd.Str)
	// Output:
	// 1234.5
	// 2027-03-29
	// true soon
}

// Addresses are read by RFC 5322, with the names that stand before them.
func ExampleParseMailboxes() {
	boxes, err := value.ParseMailboxes(`Ada Quill <ada@borrower.example>, "Desk, loans" <loans@marrowby.example>`)
	for _, b := range boxes {
		fmt.Printf("%s: %s@%s\n", b.Name, b.Local, b.Domain)
	}
	fmt.Println(err)
	_, err = value.ParseMailboxes("ada@")
	fmt.Println(err != nil)
	// Output:
	// Ada Quill: ada@borrower.example
	// Desk, loans: loans@marrowby.example
	// <nil>
	// true
}

// Names are compared as people see them, whatever they are made of.
func ExampleIdentifier() {
	fmt.Println(value.Identifier("Ｈugh\u200b@Marrowby.example") == value.Identifier("hugh@marrowby.example"))
	fmt.Println(value.Identifier("hügh@marrowby.example") == value.Identifier("hugh@marrowby.example"))
	// Output:
	// true
	// false
}
