package formula

import (
	"errors"
	"strings"
	"testing"

	"nivot/internal/core/value"
)

// A column for each month, as section 1 has it: "group".
var monthly = Scope{
	{ID: "jan", Name: "january", Label: "January", Type: value.Number, Group: "Paid"},
	{ID: "who", Name: "contact", Label: "Contact", Type: value.Text},
	{ID: "feb", Name: "february", Label: "February", Type: value.Number, Group: "Paid"},
	{ID: "mar", Name: "march", Label: "March", Type: value.Number, Group: "paid "},
	{ID: "s1", Name: "round_1", Label: "Round 1", Type: value.Choice, Group: `The "state"`},
	{ID: "s2", Name: "round_2", Label: "Round 2", Type: value.Choice, Group: `The "state"`},
	{ID: "m1", Name: "seen", Label: "Seen", Type: value.Date, Group: "Mixed"}, {ID: "m2", Name: "noted", Label: "Noted",
		Type: value.Text, Group: "Mixed"},
}

func TestGroups(t *testing.T) {
	number := func(n int64) value.Value { return integer(n) }
	for _, c := range []struct {
		src   string
		cells map[string]value.Value
		want  string
	}{
		{`latest("Paid")`, map[string]value.Value{"jan": number(5), "feb": number(7)}, ""},
		{`latest("Paid")`, map[string]value.Value{"jan": number(5), "mar": number(9)}, "9"},
		{`latest("PAID ")`, map[string]value.Value{"mar": value.Raw(value.Number, "soon")}, "!soon"},
		{`latest_filled("Paid")`, map[string]value.Value{"jan": number(5), "feb": number(7)}, "7"},
		{`latest_filled("Paid")`, map[string]value.Value{"jan": number(5), "feb": value.Raw(value.Number, "soon")}, "!soon"},
		{`latest_filled("Paid")`, map[string]value.Value{"jan": value.Raw(value.Number, "soon"), "feb": number(7)}, "7"},
		{`latest_filled("Paid")`, nil, ""},
		{`latest_name("Paid")`, nil, "March"},
		{`count_filled("Paid")`, map[string]value.Value{"jan": number(5), "mar": number(0)}, "2"},
		{`count_filled("Paid")`, map[string]value.Value{"jan": value.Raw(value.Number, "soon")}, "!soon"},
		{`count_filled("Paid")`, nil, "0"},
		{`latest_filled("Paid") * 2 > 13 and count_filled("paid") = 2`, map[string]value.Value{"jan": number(5),
			"feb": number(7)}, "yes"},
		{`latest_filled("the ""STATE""") & "!"`, map[string]value.Value{"s1": value.OfText("late")}, "late!"},
		{`coalesce(latest("Paid"), latest_filled("Paid"))`, map[string]value.Value{"feb": number(7)}, "7"},
	} {
		t.Run(c.src, func(t *testing.T) {
			p, err := Compile(c.src, monthly)
			if err != nil {
				t.Fatal(err)
			}
			x := context(noon)
			x.Cell = func(id string) value.Value { return c.cells[id] }
			if got := shown(p.Eval(x)); got != c.want {
				t.Errorf("%q, want %q", got, c.want)
			}
		})
	}
}

// A formula over an unknown or mixed group is refused, at its place.
func TestGroupFaults(t *testing.T) {
	for src, want := range map[string]string{
		`1 + latest("Payed")`: `at character 12: no columns belong together as "Payed"; there are Paid, The "state", Mixed`,
		`latest("")`:          "no columns belong together",
		`latest(january)`:     "at character 8: the name of a group is wanted here, in quotes",
		`latest("Pa" & "id")`: "the name of a group is wanted", `latest(1)`: "the name of a group is wanted",
		`count_filled("Mixed")`: "at character 14: the columns of Mixed are not of one type: Seen is a date, Noted a text",
		`latest()`:              `latest is written latest("Group")`,
		`latest("Paid", 2)`:     "is written", `latest("Paid") & 1 > 2`: "a text cannot be compared with a number",
	} {
		_, err := Compile(src, monthly)
		var fe *Error
		if !errors.As(err, &fe) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", src, err, want)
		}
	}
}

func TestRenameGroups(t *testing.T) {
	names := map[string]string{"paid": `Fees "2027"`, "fees": "Paid"}
	for src, want := range map[string]string{
		`latest("Paid") + Latest_Filled ( "PAID" )`: `latest("Fees ""2027""") + Latest_Filled ( "Fees ""2027""" )`,
		`latest("Fees") & "Paid" & upper("Paid")`:   `latest("Paid") & "Paid" & upper("Paid")`,
		`latest("Paid"`: `latest("Fees ""2027"""`, `latest("Paid`: `latest("Paid`,
	} {
		if got := RenameGroups(src, names); got != want {
			t.Errorf("%s: %s, want %s", src, got, want)
		}
	}
}
