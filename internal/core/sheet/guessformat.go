package sheet

import (
	"strings"
	"unicode"

	"nivot/internal/core/value"
)

// isoCurrencies are signs of currencies in letters (ISO 4217), as they stand beside amounts.
var isoCurrencies = map[string]bool{"EUR": true, "GBP": true, "USD": true, "CHF": true, "SEK": true, "NOK": true,
	"DKK": true, "PLN": true, "CZK": true, "HUF": true,
	"JPY": true, "CAD": true, "AUD": true, "NZD": true, "kr": true, "zł": true, "Kč": true, "Ft": true}

// guessFormat finds how a column of numbers is written, so that each is written again as the
// file shows it: a currency or percent sign that all have, decimals that all have as many of,
// thousands signs. What nine in ten would not be written by again is not the format.
func guessFormat(cells []string, l *value.Locale) value.NumberFormat {
	var f value.NumberFormat
	signs, filled := map[string]int{}, 0
	decimals, grouped, plain := map[int]int{}, 0, 0
	for _, c := range cells {
		t := value.Trim(c)
		if t == "" {
			continue
		}
		filled++
		num, sign := parted(t)
		signs[sign]++
		whole, frac, _ := strings.Cut(num, l.Decimal)
		decimals[len(frac)]++
		digits := strings.Map(func(r rune) rune {
			if r < '0' || r > '9' {
				return -1
			}
			return r
		}, whole)
		switch {
		case len(digits) <= 3:
		case len(digits) < len(strings.TrimLeft(whole, "-\u2212")):
			grouped++
		default:
			plain++
		}
	}
	if filled == 0 {
		return f
	}
	for sign, n := range signs {
		switch {
		case sign == "" || n*10 < filled*9:
		case sign == "%":
			f.Percent = true
		case isoCurrencies[sign] || unicode.Is(unicode.Sc, []rune(sign)[0]) && len([]rune(sign)) == 1:
			f.Currency = sign
		}
	}
	for k, n := range decimals {
		if k > 0 && n*10 >= filled*9 {
			f.Decimals = &k
		}
	}
	f.Thousands = grouped > 0 && plain*9 <= grouped
	if f == (value.NumberFormat{}) {
		return f
	}
	reading := value.Reading{Type: value.Number, Locale: l, Format: f}
	same := 0
	for _, c := range cells {
		t := value.Trim(c)
		if t == "" {
			continue
		}
		if v, err := value.Read(t, reading); err == nil && spaceless(value.FormatNumber(v.Num, f, l)) == spaceless(t) {
			same++
		}
	}
	if same*10 < filled*9 {
		return value.NumberFormat{Currency: f.Currency, Percent: f.Percent}
	}
	return f
}

// parted parts a written number from the sign that stands before or behind it.
func parted(t string) (num, sign string) {
	digit := func(r rune) bool { return r >= '0' && r <= '9' }
	first, last := strings.IndexFunc(t, digit), strings.LastIndexFunc(t, digit)
	if first < 0 {
		return t, ""
	}
	before, behind := strings.Trim(t[:first], "-\u2212 \u00a0\u202f"), strings.Trim(t[last+1:], " \u00a0\u202f")
	num = t[first : last+1]
	if before != "" && behind != "" {
		return t, ""
	}
	return num, before + behind
}

// spaceless takes the spaces out of a number: which of them a file has is no matter.
func spaceless(s string) string {
	return strings.Map(func(r rune) rune {
		switch r {
		case ' ', '\u00a0', '\u202f':
			return -1
		case '\u2212':
			return '-'
		}
		return r
	}, s)
}
