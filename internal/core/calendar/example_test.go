package calendar_test

import (
	"fmt"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

// Working days leave out weekends and the days on which one is closed.
func ExampleCalendar_Add() {
	easter, err := calendar.New([]string{"mon", "tue", "wed", "thu", "fri"}, []string{"2027-03-26", "2027-03-29"})
	if err != nil {
		fmt.Println(err)
		return
	}
	thursday := value.DayOf(2027, 3, 25)
	fmt.Println(easter.Add(thursday, 1), easter.Working(value.DayOf(2027, 3, 29)))
	// Output: 2027-03-30 false
}

// A wall time that a change of the clocks leaves out is taken as it would have been before; of
// one that comes twice, the first is meant (RFC 5545, section 3.3.5).
func ExampleResolve() {
	london, err := time.LoadLocation("Europe/London")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, day := range []value.Day{value.DayOf(2027, 3, 28), value.DayOf(2027, 10, 31)} {
		fmt.Println(calendar.Resolve(value.Wall{Day: day, Second: 90 * 60}, london))
	}
	// Output:
	// 2027-03-28 02:30:00 +0100 BST
	// 2027-10-31 01:30:00 +0100 BST
}

// Schedules are recurrence rules of RFC 5545.
func ExampleNewRecurrence() {
	r, err := calendar.NewRecurrence(value.Wall{Day: value.DayOf(2027, 3, 1), Second: 9 * 3600},
		"FREQ=MONTHLY;BYDAY=2SA;COUNT=2", time.UTC)
	if err != nil {
		fmt.Println(err)
		return
	}
	for at := r.Next(time.Time{}); !at.IsZero(); at = r.Next(at) {
		fmt.Println(at.Format("Mon 2 January 2006, 15:04"))
	}
	// Output:
	// Sat 13 March 2027, 09:00
	// Sat 10 April 2027, 09:00
}
