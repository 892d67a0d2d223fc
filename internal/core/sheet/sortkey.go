package sheet

import (
	"cmp"
	"strings"

	"github.com/shopspring/decimal"

	"nivot/internal/core/value"
)

// SortKey is a cell's place in the order of its column, worked out once and
// compared often. Word decides nearly always; More says that keys with equal
// words have still to be compared: of a number that its word is a little, or
// far, below it, so that one without more is less.
type SortKey struct {
	Word uint64 // two bits for filled, unreadable, empty; then the value, as far as it fits
	More bool
	text string // folded
	num  decimal.Decimal
}

// half is the middle of the 62 bits that a value has in a word.
const half = int64(1) << 61

// SortKey gives a cell's sort key. down puts the largest first; empty and
// unreadable cells stay last either way. Keys of one column and direction
// compare as Less says.
func (s *Sheet) SortKey(c *Column, v value.Value, down bool) SortKey {
	var k SortKey
	at := int64(0) // from -half to half-1
	switch {
	case v.IsEmpty():
	case v.IsUnreadable(), v.Type == value.Text, v.Type == value.Email, v.Type == value.File:
		k.text, k.More = value.Fold(v.Str), true
		at = head(k.text)
	case v.Type == value.Number:
		k.num = v.Num
		at, k.More = millionths(v.Num)
	case v.Type == value.Date:
		at = int64(v.Wall.Day)
	case v.Type == value.Moment:
		at = int64(v.Wall.Day)*86400 + int64(v.Wall.Second)
	case v.Type == value.YesNo && v.Yes:
		at = 1
	case v.Type == value.Choice:
		at = int64(optionRank(c, v.Str))
	}
	if down && v.IsFilled() {
		at = ^at // turns the order round, and stays within half
	}
	k.Word = uint64(rank(v.State))<<62 | uint64(at+half)
	return k
}

// Compare orders two keys; down is what they were made with.
func (k SortKey) Compare(o SortKey, down bool) int {
	if k.Word != o.Word {
		return cmp.Compare(k.Word, o.Word)
	}
	if !k.More && !o.More {
		return 0
	}
	n := strings.Compare(k.text, o.text)
	if n == 0 {
		n = k.num.Cmp(o.num)
	}
	if down && k.Word>>62 == 0 {
		return -n
	}
	return n
}

// head gives the first bytes of a text as a number in their order.
func head(s string) int64 {
	var n uint64
	for i := range 8 {
		n <<= 8
		if i < len(s) {
			n |= uint64(s[i])
		}
	}
	return int64(n>>2) - half
}

// millionths gives a number in millionths, rounded down and held to half; more
// says that it is not exactly that.
func millionths(d decimal.Decimal) (n int64, more bool) {
	if e := int(d.Exponent()) + 6; d.NumDigits() <= 18 && e <= 12 {
		c := d.CoefficientInt64()
		for ; e > 0 && c < half/10 && c > -half/10; e-- {
			c *= 10
		}
		for ; e < 0; e++ {
			q := c / 10
			if c%10 != 0 {
				more = true
				if c < 0 {
					q--
				}
			}
			c = q
		}
		if e == 0 && c < half && c > -half {
			return c, more
		}
	}
	switch x := d.Shift(6).Floor(); {
	case x.LessThan(decimal.NewFromInt(-half)):
		return -half, true
	case x.GreaterThanOrEqual(decimal.NewFromInt(half)):
		return half - 1, true
	default:
		return x.IntPart(), true
	}
}
