package sheet

import (
	"encoding/binary"
	"errors"
	"strconv"

	"github.com/shopspring/decimal"

	"nivot/internal/core/value"
)

// The encoding of a row's cells, version 1: the version byte, then per
// position of the columns an unsigned varint n<<2|state and n bytes. State is
// value.State. A filled cell's bytes are its canonical text: a decimal, an
// ISO day or moment, "1" or "0", an option id, or the text itself; an
// unreadable cell's are its raw text. Trailing empty cells are left off.
const version1 = 1

// Encode packs cells by column position.
func Encode(cells []value.Value) []byte {
	n := len(cells)
	for n > 0 && cells[n-1].IsEmpty() {
		n--
	}
	b := make([]byte, 1, 1+16*n)
	b[0] = version1
	for _, v := range cells[:n] {
		s := canonical(v)
		b = binary.AppendUvarint(b, uint64(len(s))<<2|uint64(v.State))
		b = append(b, s...)
	}
	return b
}

func canonical(v value.Value) string {
	if !v.IsFilled() {
		return v.Str
	}
	switch v.Type {
	case value.Number:
		return v.Num.String()
	case value.Date:
		return strconv.Itoa(int(v.Wall.Day))
	case value.Moment:
		return strconv.Itoa(int(v.Wall.Day)) + " " + strconv.Itoa(int(v.Wall.Second))
	case value.YesNo:
		if v.Yes {
			return "1"
		}
		return "0"
	}
	return v.Str
}

var errEncoding = errors.New("the stored cells of a row cannot be decoded")

// Decode unpacks cells for the sheet's columns, into dst where it has room.
// Cells of positions that no column has any more are passed over.
func (s *Sheet) Decode(b []byte, dst []value.Value) ([]value.Value, error) {
	return s.Decoder().Decode(b, dst)
}

// Decoder unpacks the cells of many rows of one sheet.
type Decoder struct {
	types []value.Type // by position
	want  []bool       // by position; nil for all
}

// Decoder makes a decoder, of all columns or of some; cells of the others
// come out empty.
func (s *Sheet) Decoder(some ...*Column) *Decoder {
	d := &Decoder{types: s.typesByPos()}
	if some != nil {
		d.want = make([]bool, len(d.types))
		for _, c := range some {
			if !c.Derived() { // it has no cells of its own
				d.want[c.Pos] = true
			}
		}
	}
	return d
}

// Decode unpacks a row's cells into dst where it has room.
func (d *Decoder) Decode(b []byte, dst []value.Value) ([]value.Value, error) {
	return d.DecodeString(string(b), dst)
}

// DecodeString is Decode; the cells' texts are parts of the string.
func (d *Decoder) DecodeString(b string, dst []value.Value) ([]value.Value, error) {
	dst = dst[:0]
	if len(b) == 0 {
		return dst, nil
	}
	if b[0] != version1 {
		return nil, errEncoding
	}
	b = b[1:]
	for pos := 0; len(b) > 0; pos++ {
		h, n := uvarint(b)
		if n <= 0 || uint64(len(b)-n) < h>>2 {
			return nil, errEncoding
		}
		text := b[n : n+int(h>>2)]
		b = b[n+int(h>>2):]
		if d.want != nil && (pos >= len(d.want) || !d.want[pos]) {
			dst = append(dst, value.Value{})
			continue
		}
		if len(dst) < cap(dst) {
			dst = dst[:len(dst)+1]
		} else {
			dst = append(dst, value.Value{})
		}
		v := &dst[len(dst)-1] // in its place: a copy costs as much as what it holds
		*v = value.Value{State: value.State(h & 3), Str: text}
		if v.State > value.Unreadable {
			return nil, errEncoding
		}
		if pos < len(d.types) {
			v.Type = d.types[pos]
		}
		if v.State == value.Filled {
			if err := fill(v); err != nil {
				return nil, err
			}
		}
	}
	return dst, nil
}

// uvarint is binary.Uvarint of a string.
func uvarint(b string) (x uint64, n int) {
	if b[0] < 0x80 {
		return uint64(b[0]), 1
	}
	return binary.Uvarint([]byte(b[:min(len(b), binary.MaxVarintLen64)]))
}

func (s *Sheet) typesByPos() []value.Type {
	n := 0
	for _, c := range s.Columns {
		n = max(n, c.Pos+1)
	}
	types := make([]value.Type, n)
	for _, c := range s.Columns {
		types[c.Pos] = c.Type
	}
	return types
}

// fill turns the canonical text of a filled cell into its value.
func fill(v *value.Value) error {
	switch v.Type {
	case value.Number:
		d, err := decimal.NewFromString(v.Str)
		if err != nil {
			return errEncoding
		}
		v.Num, v.Str = d, ""
	case value.Date, value.Moment:
		day, second := v.Str, ""
		for i := range v.Str {
			if v.Str[i] == ' ' {
				day, second = v.Str[:i], v.Str[i+1:]
				break
			}
		}
		n, err := strconv.Atoi(day)
		if err != nil {
			return errEncoding
		}
		v.Wall.Day = value.Day(n)
		if second != "" {
			if n, err = strconv.Atoi(second); err != nil {
				return errEncoding
			}
			v.Wall.Second = int32(n)
		}
		v.Str = ""
	case value.YesNo:
		v.Yes, v.Str = v.Str == "1", ""
	}
	return nil
}
