package exchange

import (
	"reflect"
	"strings"
	"testing"

	"nivot/internal/core/value"
)

// Texts from other programs: how their lines end, what separates, in which encoding.
func TestReadCSVFromElsewhere(t *testing.T) {
	for _, x := range []struct {
		name, text string
		choice     Choice
		sep        rune
		heading    []string
		rows       [][]string
		lines      []int
	}{
		{"CR alone", "a,b\r1,2\r3,4", Choice{}, ',', []string{"a", "b"}, [][]string{{"1", "2"}, {"3", "4"}}, []int{2, 3}},
		{"mixed line ends", "a,b\r\n1,2\r3,4\n5,6\r\n", Choice{}, ',', []string{"a", "b"}, [][]string{{"1", "2"}, {"3", "4"},
			{"5", "6"}}, []int{2, 3, 4}},
		{"breaks in quotes", "a,b\r\n\"x\r\ny\",\"p\nq\"\r\n\"r\rs\",2\r\n3,4", Choice{}, ',', []string{"a", "b"},
			[][]string{{"x\ny", "p\nq"}, {"r\rs", "2"}, {"3", "4"}}, []int{2, 5, 7}},
		{"pipes", "a|b|c\n1|2, 3|4\n5|6|7\n", Choice{}, '|', []string{"a", "b", "c"},
			[][]string{{"1", "2, 3", "4"}, {"5", "6", "7"}}, []int{2, 3}},
		{"commas in the heading", "Object;Note (a, b, c)\nBellows;oak\nVane;tin, old\n", Choice{}, ';',
			[]string{"Object", "Note (a, b, c)"}, [][]string{{"Bellows", "oak"}, {"Vane", "tin, old"}}, []int{2, 3}},
		{"commas as decimals", "Object;Weight;Height\nBellows;1,5;2,25\nVane;0,75;1,5\n", Choice{}, ';',
			[]string{"Object", "Weight", "Height"}, [][]string{{"Bellows", "1,5", "2,25"}, {"Vane", "0,75", "1,5"}},
			[]int{2, 3}},
		{"another sign", "a~b~c\n1~2~3\n4~5~6\n", Choice{}, '~', []string{"a", "b", "c"},
			[][]string{{"1", "2", "3"}, {"4", "5", "6"}}, []int{2, 3}},
		{"one column of names", "Name\nFell, Ida\nHolt\n", Choice{Separator: ';'}, ';', []string{"Name"},
			[][]string{{"Fell, Ida"}, {"Holt"}}, []int{2, 3}},
		{"what the first line says", "sep=;\r\na;b,c\r\n1;2\r\n", Choice{}, ';', []string{"a", "b,c"},
			[][]string{{"1", "2"}}, []int{3}},
		{"a tab that the first line says", "SEP=\t\na\tb\n1\t2\n", Choice{}, '\t', []string{"a", "b"},
			[][]string{{"1", "2"}}, []int{3}},
		{"what has been chosen", "a;b,c\n1;2,3\n", Choice{Separator: ','}, ',', []string{"a;b", "c"},
			[][]string{{"1;2", "3"}}, []int{2}},
		{"short lines", "a;b;c\n1\n2;3\n", Choice{}, ';', []string{"a", "b", "c"}, [][]string{{"1", "", ""}, {"2", "3", ""}},
			[]int{2, 3}},
		{"an empty last cell", "a,b\n1,", Choice{}, ',', []string{"a", "b"}, [][]string{{"1", ""}}, []int{2}},
		{"controls", "a,b\n\x1b[0m,\x07\n", Choice{}, ',', []string{"a", "b"}, [][]string{{"\x1b[0m", "\x07"}}, []int{2}},
		{"accents in Windows-1252", "a;b\nM\xfcsli;\x80 5\n", Choice{}, ';', []string{"a", "b"},
			[][]string{{"Müsli", "€ 5"}}, []int{2}},
		{"what is no Windows-1252, chosen otherwise", "a;b\nM\xfcsli;\x81\n", Choice{Encoding: "ISO-8859-1"}, ';',
			[]string{"a", "b"}, [][]string{{"Müsli", "\u0081"}}, []int{2}},
	} {
		t.Run(x.name, func(t *testing.T) {
			got, err := ReadCSV([]byte(x.text), x.choice)
			if err != nil {
				t.Fatal(err)
			}
			if got.Separator != x.sep || !reflect.DeepEqual(got.Heading, x.heading) || !reflect.DeepEqual(got.Rows, x.rows) ||
				!reflect.DeepEqual(got.Lines, x.lines) {
				t.Errorf("got %q %q %q %v, want %q %q %q %v", got.Separator, got.Heading, got.Rows, got.Lines, x.sep, x.heading,
					x.rows, x.lines)
			}
		})
	}
}

// What cannot be read is said with its place, and nothing is replaced.
func TestReadCSVSaysWhere(t *testing.T) {
	for _, x := range []struct {
		name, text string
		choice     Choice
		want       string
	}{
		{"a quote that stays open", "a,b\n1,2\n3,\"x\ny\nz\n", Choice{},
			"line 3, column 3: the quote that opens here is not closed"},
		{"something behind a quote", "a,b\n\"x\ny\"z,2\n", Choice{},
			"line 3, column 3: something stands between a closing quote and the next separator; the quote opens at line 2, " +
				"column 1"},
		{"a quote in a cell", "a,b\nüb 5\" pipe,2\n", Choice{}, "line 2, column 5: a quote stands inside a cell"},
		{"too many cells", "a,b\n1,2\r\"x\ny\",2,3\n", Choice{},
			"line 4, column 6: the line has 3 cells, the heading only 2"},
		{"a page under another name", " \n<!DOCTYPE html><table>", Choice{}, "line 1, column 1: this is a web page"},
		{"what Windows-1252 has not", "a,b\n\xfc,1\r\n\x81,2\n", Choice{},
			"line 3: the byte 0x81 stands for no character in Windows-1252"},
		{"half a character of UTF-16", "\xff\xfea\x00,\x00b\x00\n\x00\x3c\xd8,\x00", Choice{},
			"line 2: half a character of UTF-16"},
		{"an odd end of UTF-16", "\xff\xfea\x00,\x00b\x00\n\x001\x00,", Choice{}, "line 2: half a character of UTF-16"},
		{"NUL", "a,b\n1,x\x00y\n", Choice{}, "line 2: it holds a NUL character"},
		{"another encoding", "a,b\n", Choice{Encoding: "EBCDIC"}, `"EBCDIC" is not known`},
	} {
		t.Run(x.name, func(t *testing.T) {
			l, _ := value.FindLocale("en-GB")
			if _, err := ReadTable([]byte(x.text), x.choice, l); err == nil || !strings.Contains(err.Error(), x.want) {
				t.Errorf("got %v, want %q", err, x.want)
			}
		})
	}
}

// What other programs leave behind is read as it is meant.
func TestReadAsItIsMeant(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	lost := string(value.Lost)
	for _, x := range []struct {
		name, text string
		choice     Choice
		encoding   string
		want       [][]string // the heading first
	}{
		{"a bad byte in UTF-8", "a,b\nMüsli,é\nü,caf\xe9\n", Choice{}, "UTF-8", [][]string{{"a", "b"}, {"Müsli", "é"}, {"ü", "caf" + lost}}},
		{"few bad bytes in a short text", "a,b\nü,\xe9\n\xe8,\xff\n", Choice{}, "UTF-8",
			[][]string{{"a", "b"}, {"ü", lost}, {lost, lost}}},
		{"a bad byte, chosen", "a,b\n\xff,1\n", Choice{Encoding: "UTF-8"}, "UTF-8", [][]string{{"a", "b"}, {lost, "1"}}},
		{"Windows-1252", "a,b\nM\xfcsli,caf\xe9\n", Choice{}, "Windows-1252", [][]string{{"a", "b"}, {"Müsli", "café"}}},
		{"an empty last heading", "a,b,\n1,2,3\n4,5\n", Choice{}, "UTF-8", [][]string{{"a", "b", ""}, {"1", "2", "3"}, {"4", "5", ""}}},
		{"an empty last column", "a,b,,\n1,2,,\n", Choice{}, "UTF-8", [][]string{{"a", "b"}, {"1", "2"}}},
		{"an empty first column", ",a,b\n,1,2\n", Choice{}, "UTF-8", [][]string{{"a", "b"}, {"1", "2"}}},
		{"files put together", "\ufeffa,b\n1,2\n\ufeff\"3\",4\n\ufeff5,6\n", Choice{}, "UTF-8",
			[][]string{{"a", "b"}, {"1", "2"}, {"3", "4"}, {"5", "6"}}},
	} {
		t.Run(x.name, func(t *testing.T) {
			got, err := ReadTable([]byte(x.text), x.choice, l)
			if err != nil {
				t.Fatal(err)
			}
			if all := append([][]string{got.Heading}, got.Rows...); !reflect.DeepEqual(all, x.want) || got.Encoding != x.encoding {
				t.Errorf("got %q in %s, want %q", all, got.Encoding, x.want)
			}
		})
	}
	if v := value.Parse("caf"+lost, value.Reading{Type: value.Text, Locale: l}); !v.IsUnreadable() {
		t.Errorf("a lost character is read as %+v", v)
	}
}
