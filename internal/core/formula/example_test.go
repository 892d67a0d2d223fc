package formula_test

import (
	"fmt"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/formula"
	"nivot/internal/core/value"
)

// A formula is compiled once for the columns it may name, and worked out for each row. What it
// comes to may change without an edit: NextLook says when.
func ExampleCompile() {
	scope := formula.Scope{{ID: "c1", Name: "return_due", Type: value.Date}}
	program, err := formula.Compile("days_until(return_due)", scope)
	if err != nil {
		fmt.Println(err)
		return
	}
	now := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	due := value.OfDay(value.DayOf(2027, 3, 29))
	got := program.Eval(&formula.Context{Cell: func(string) value.Value { return due }, Now: value.WallAt(now),
		Instant: now, Zone: time.UTC, Calendar: calendar.Default()})
	fmt.Println(got.Num)
	fmt.Println(program.NextLook(now, time.UTC))

	_, err = formula.Compile("days_until(returned)", scope)
	fmt.Println(err)
	// Output:
	// 14
	// 2027-03-16 00:00:00 +0000 UTC
	// at character 12: there is no column returned; there are return_due
}
