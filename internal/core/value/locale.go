package value

import (
	"fmt"
	"sort"
	"strings"
)

// Locale says how numbers and dates are read and written in one place.
type Locale struct {
	Tag          string
	Decimal      string
	Thousands    string
	DefaultOrder Order
	yes, no      []string
}

// Order is the order of the digits in a written date.
type Order string

// The orders of a date's parts.
const (
	DayMonthYear Order = "day-month-year"
	MonthDayYear Order = "month-day-year"
	YearMonthDay Order = "year-month-day"
)

// Valid tells whether o is one of the three orders.
func (o Order) Valid() bool { return o == DayMonthYear || o == MonthDayYear || o == YearMonthDay }

var locales = map[string]*Locale{
	"en-GB": {Tag: "en-GB", Decimal: ".", Thousands: ",", DefaultOrder: DayMonthYear},
	"en-US": {Tag: "en-US", Decimal: ".", Thousands: ",", DefaultOrder: MonthDayYear},
}

// FindLocale gives the locale of a BCP 47 tag that Nivot knows.
func FindLocale(tag string) (*Locale, error) {
	for t, l := range locales {
		if strings.EqualFold(t, tag) {
			return l, nil
		}
	}
	return nil, fmt.Errorf("locale %q is not known; use one of %s", tag, strings.Join(Locales(), ", "))
}

// Locales lists the tags of the known locales in order.
func Locales() []string {
	tags := make([]string, 0, len(locales))
	for t := range locales {
		tags = append(tags, t)
	}
	sort.Strings(tags)
	return tags
}

// Months and weekdays as CLDR 45 writes them in English. Both English locales
// share them but for September, which en-GB shortens to "Sept" and Nivot, as
// its contract says, to "Sep".
var (
	monthsLong = [...]string{"January", "February", "March", "April", "May", "June", "July",
		"August", "September", "October", "November", "December"}
	weekdays = [...]string{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"}
)
