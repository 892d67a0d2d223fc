package calendar

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/value"
)

func begin(t testing.TB, start, rule, zone string) *Recurrence {
	t.Helper()
	loc, err := time.LoadLocation(zone)
	if err != nil {
		t.Fatal(err)
	}
	w, err := value.ParseMoment(start, value.YearMonthDay, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, err := NewRecurrence(w, rule, loc)
	if err != nil {
		t.Fatalf("%s: %v", rule, err)
	}
	return r
}

// first lists the first n wall times.
func first(r *Recurrence, n int) string {
	var out []string
	at := time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC)
	for range n {
		if at = r.Next(at); at.IsZero() {
			out = append(out, "end")
			break
		}
		out = append(out, at.In(r.zone).Format("060102T1504"))
	}
	return strings.ReplaceAll(strings.Join(out, " "), "T0900", "")
}

// The examples of RFC 5545, section 3.8.5.3, in the zone they are given in.
// Left out are those that this program refuses: COUNT or UNTIL apart from
// that, rules finer than hourly.
func TestRFC5545Examples(t *testing.T) {
	for _, c := range []struct{ start, rule, want string }{
		{"1997-09-02T09:00", "FREQ=DAILY;COUNT=10",
			"970902 970903 970904 970905 970906 970907 970908 970909 970910 970911 end"},
		{"1997-09-02T09:00", "FREQ=DAILY;UNTIL=19970905T000000Z", "970902 970903 970904 end"},
		{"1997-09-02T09:00", "FREQ=DAILY;INTERVAL=2", "970902 970904 970906"},
		{"1997-09-02T09:00", "FREQ=DAILY;INTERVAL=10;COUNT=5", "970902 970912 970922 971002 971012 end"},
		{"1998-01-01T09:00", "FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA",
			"980101 980102 980103"},
		{"1998-01-01T09:00", "FREQ=DAILY;UNTIL=20000131T140000Z;BYMONTH=1", "980101 980102 980103"},
		{"1997-09-02T09:00", "FREQ=WEEKLY;COUNT=10",
			"970902 970909 970916 970923 970930 971007 971014 971021 971028 971104 end"},
		{"1997-09-02T09:00", "FREQ=WEEKLY;UNTIL=19971224T000000Z", "970902 970909 970916"},
		{"1997-09-02T09:00", "FREQ=WEEKLY;INTERVAL=2;WKST=SU", "970902 970916 970930 971014"},
		{"1997-09-02T09:00", "FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH",
			"970902 970904 970909 970911 970916 970918 970923 970925 970930 971002 end"},
		{"1997-09-01T09:00", "FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000Z;WKST=SU;BYDAY=MO,WE,FR",
			"970901 970903 970905 970915 970917 970919 970929"},
		{"1997-09-02T09:00", "FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH",
			"970902 970904 970916 970918 970930 971002 971014 971016 end"},
		{"1997-09-05T09:00", "FREQ=MONTHLY;COUNT=10;BYDAY=1FR",
			"970905 971003 971107 971205 980102 980206 980306 980403 980501 980605 end"},
		{"1997-09-07T09:00", "FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU",
			"970907 970928 971102 971130 980104 980125 980301 980329 980503 980531 end"},
		{"1997-09-22T09:00", "FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "970922 971020 971117 971222 980119 980216 end"},
		{"1997-09-28T09:00", "FREQ=MONTHLY;BYMONTHDAY=-3", "970928 971029 971128 971229 980129 980226"},
		{"1997-09-02T09:00", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15",
			"970902 970915 971002 971015 971102 971115 971202 971215 980102 980115 end"},
		{"1997-09-30T09:00", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1",
			"970930 971001 971031 971101 971130 971201 971231 980101 980131 980201 end"},
		{"1997-09-10T09:00", "FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15",
			"970910 970911 970912 970913 970914 970915 990310 990311 990312 990313 end"},
		{"1997-09-02T09:00", "FREQ=MONTHLY;INTERVAL=2;BYDAY=TU", "970902 970909 970916 970923 970930 971104"},
		{"1997-06-10T09:00", "FREQ=YEARLY;COUNT=10;BYMONTH=6,7",
			"970610 970710 980610 980710 990610 990710 000610 000710 010610 010710 end"},
		{"1997-03-10T09:00", "FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3",
			"970310 990110 990210 990310 010110 010210 010310 030110 030210 030310 end"},
		{"1997-01-01T09:00", "FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200",
			"970101 970410 970719 000101 000409 000718 030101 030410 030719 060101 end"},
		{"1997-05-19T09:00", "FREQ=YEARLY;BYDAY=20MO", "970519 980518 990517"},
		{"1997-05-12T09:00", "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "970512 980511 990517"},
		{"1997-03-13T09:00", "FREQ=YEARLY;BYMONTH=3;BYDAY=TH", "970313 970320 970327 980305"},
		{"1997-06-05T09:00", "FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8", "970605 970612 970619"},
		{"1997-09-02T09:00", "FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "980213 980313 981113 990813 001013"},
		{"1997-09-13T09:00", "FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13", "970913 971011 971108 971213 980110"},
		{"1996-11-05T09:00", "FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", "961105 001107 041102"},
		{"1997-09-04T09:00", "FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "970904 971007 971106 end"},
		{"1997-09-29T09:00", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", "970929 971030 971127 971230"},
		{"1997-09-02T09:00", "FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T210000Z", "970902 970902T1200 970902T1500 end"},
		{"1997-09-02T09:00", "FREQ=DAILY;BYHOUR=9,10;BYMINUTE=20", "970902T0920 970902T1020 970903T0920"},
		{"1997-08-05T09:00", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO", "970805 970810 970819 970824 end"},
		{"1997-08-05T09:00", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU", "970805 970817 970819 970831 end"},
		{"2007-01-15T09:00", "FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5", "070115 070130 070215 070315 070330 end"},
	} {
		want := strings.Fields(c.want)
		if got := first(begin(t, c.start, c.rule, "America/New_York"), len(want)); got != c.want {
			t.Errorf("%s from %s:\n%s\nwant\n%s", c.rule, c.start, got, c.want)
		}
	}
}

// Section 2: the start counts only if it fits; UNTIL in its three forms;
// skipped clock times are read later, none is left out, and two that fall
// together are one.
func TestRecurrenceClauses(t *testing.T) {
	for _, c := range []struct{ about, start, rule, want string }{
		{"a start that does not fit", "2027-03-15T10:00", "FREQ=MONTHLY;BYDAY=2SA", "270410T1000 270508T1000"},
		{"without a rule", "2027-03-15T10:00", "", "270315T1000 end"},
		{"until wall time", "2027-03-15T10:00", "FREQ=DAILY;UNTIL=20270317T100000",
			"270315T1000 270316T1000 270317T1000 end"},
		{"until a day includes it", "2027-03-15T10:00", "FREQ=DAILY;UNTIL=20270317",
			"270315T1000 270316T1000 270317T1000 end"},
		{"until an instant", "2027-03-30T10:00", "FREQ=DAILY;UNTIL=20270331T090000Z", "270330T1000 270331T1000 end"},
		{"skipped clock time", "2027-03-27T01:30", "FREQ=DAILY;COUNT=3", "270327T0130 270328T0230 270329T0130 end"},
		{"hourly over the spring change", "2027-03-28T00:30", "FREQ=HOURLY;COUNT=4",
			"270328T0030 270328T0230 270328T0330 end"},
		{"hourly over the autumn change", "2027-10-31T00:30", "FREQ=HOURLY;COUNT=4",
			"271031T0030 271031T0130 271031T0230 271031T0330 end"},
		{"by the minute, one of the hour", "2027-03-15T10:00", "FREQ=MINUTELY;BYMINUTE=30", "270315T1030 270315T1130"},
		{"by the minute, every second hour", "2027-03-15T10:05", "FREQ=MINUTELY;INTERVAL=120", "270315T1005 270315T1205"},
		{"by the second, one of the hour", "2027-03-15T10:00", "FREQ=SECONDLY;BYMINUTE=30;BYSECOND=0", "270315T1030 270315T1130"},
		{"one minute named twice", "2027-03-15T10:00", "FREQ=HOURLY;BYMINUTE=30,30", "270315T1030 270315T1130"},
		{"the first of several times of a day", "2027-03-15T10:00", "FREQ=DAILY;BYHOUR=9;BYMINUTE=0,30;BYSETPOS=2",
			"270316T0930 270317T0930"},
		{"hours that are never met", "2027-03-15T10:00", "FREQ=HOURLY;INTERVAL=2;BYHOUR=9", "end"},
		{"a numbered weekday by the day", "2027-01-30T10:00", "FREQ=DAILY;BYDAY=53MO;BYMONTH=2", "270201T1000 270208T1000"},
		{"never by the hour", "2027-03-28T00:30", "FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30", "end"},
		{"never", "2027-03-28T00:30", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "end"},
	} {
		if got := first(begin(t, c.start, c.rule, "Europe/London"), len(strings.Fields(c.want))); got != c.want {
			t.Errorf("%s: %s, want %s", c.about, got, c.want)
		}
	}
	for rule, want := range map[string]string{
		"FREQ=MINUTELY": "hourly at the most", "FREQ=SECONDLY": "hourly at the most",
		"FREQ=MINUTELY;INTERVAL=59": "hourly at the most", "FREQ=HOURLY;BYMINUTE=0,30": "hourly at the most",
		"FREQ=DAILY;BYSECOND=0,1": "hourly at the most", "FREQ=YEARLY;BYMINUTE=0,59;BYSETPOS=1,2": "hourly at the most",
		"FREQ=SECONDLY;BYSECOND=0": "hourly at the most", "FREQ=MINUTELY;BYMINUTE=0,1": "hourly at the most",
		"FREQ=DAILY;BYHOUR=10,11;BYMINUTE=0,59;BYSETPOS=2,3":                                            "hourly at the most",
		"FREQ=YEARLY;BYMINUTE=" + strings.Repeat("1,", 100_000) + "1":                                   "up to 20000 are read",
		"FREQ=YEARLY;BYMONTHDAY=" + strings.Repeat("1,", 366) + "1":                                     "lists 367 values",
		"FREQ=YEARLY;BYSETPOS=1;BYHOUR=" + upTo(23) + ";BYMINUTE=" + upTo(59) + ";BYSECOND=" + upTo(59): "hourly at the most",
		"FREQ=DAILY;INTERVAL=0":             "at least 1",
		"FREQ=DAILY;COUNT=3;UNTIL=20270301": "do not go together",
		"INTERVAL=2":                        "FREQ is missing", "FREQ=DAILY;UNTIL=soon": "UNTIL is SOON",
		"FREQ=DAILY;UNTIL=2027": "UNTIL is 2027",
		"FREQ=DAILY;BYDAY=XX":   "not a recurrence rule", "FREQ=DAILY;FREQ=DAILY": "twice", "nonsense": "not a part",
	} {
		if _, err := NewRecurrence(value.Wall{Day: value.DayOf(2027, 3, 15)}, rule, time.UTC); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", rule, err, want)
		}
	}
}

// BYWEEKNO without BYDAY takes the start's weekday, not all seven.
func TestWeekNumberTakesTheStartsWeekday(t *testing.T) {
	for rule, want := range map[string]string{
		"FREQ=YEARLY;BYWEEKNO=20;COUNT=3":          "270519 280517 290516",
		"FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO;COUNT=2": "270517 280515",
		"FREQ=YEARLY;BYWEEKNO=1,-1;COUNT=4":        "271229 280105 281227 290103",
	} {
		if got := first(begin(t, "2027-03-17T09:00", rule, "Europe/London"), strings.Count(want, " ")+1); got != want {
			t.Errorf("%s: %s, want %s", rule, got, want)
		}
	}
}

// Between and Next agree, wherever one begins.
func TestBetweenAgreesWithNext(t *testing.T) {
	r := begin(t, "2027-03-01T01:30", "FREQ=HOURLY;INTERVAL=5", "Europe/London")
	all := r.Between(time.Time{}, time.Date(2028, 1, 1, 0, 0, 0, 0, time.UTC))
	for i := 0; i+1 < len(all); i += 7 {
		if next := begin(t, "2027-03-01T01:30", "FREQ=HOURLY;INTERVAL=5",
			"Europe/London").Next(all[i]); !next.Equal(all[i+1]) {
			t.Fatalf("after %s: %s, want %s", all[i], next, all[i+1])
		}
	}
}

// upTo lists the numbers from 0 to n.
func upTo(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "%d,", i)
	}
	return b.String() + fmt.Sprint(n)
}

// Begun anywhere, a recurrence goes on as from its start.
func TestBegunAnywhere(t *testing.T) {
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 7))
	pick := func(of ...string) string { return of[random.IntN(len(of))] }
	trials := 0
	for range 400 {
		rule := "FREQ=" + pick("YEARLY", "MONTHLY", "WEEKLY", "DAILY", "HOURLY", "MINUTELY;INTERVAL=90", "SECONDLY;INTERVAL=7201")
		if !strings.Contains(rule, "INTERVAL") {
			rule += pick("", ";INTERVAL=2", ";INTERVAL=3", ";INTERVAL=7")
		}
		for _, part := range []string{pick("BYMONTH=2", "BYMONTH=1,12"), pick("BYMONTHDAY=31", "BYMONTHDAY=1,-1"),
			pick("BYDAY=MO", "BYDAY=SU,TU"), "BYHOUR=0,9", "BYMINUTE=59", pick("BYSETPOS=-1", "BYSETPOS=2"), "WKST=SU"} {
			if random.IntN(4) == 0 {
				rule += ";" + part
			}
		}
		start := value.Wall{Day: value.DayOf(2019, 1, 1) + value.Day(random.IntN(900)), Second: int32(random.IntN(86400))}
		zone, err := time.LoadLocation(pick("Europe/London", "America/St_Johns", "Pacific/Apia"))
		if err != nil {
			t.Fatal(err)
		}
		whole, err := NewRecurrence(start, rule, zone)
		if err != nil || whole.Empty() {
			continue
		}
		trials++
		at := time.Date(2021+random.IntN(8), time.Month(1+random.IntN(12)), random.IntN(29), random.IntN(24), 0, 0, 0, time.UTC)
		end := at.AddDate(0, 0, 1+random.IntN(400))
		all := whole.Between(time.Time{}, end)
		i, _ := slices.BinarySearchFunc(all, at.Add(1), time.Time.Compare)
		here, _ := NewRecurrence(start, rule, zone)
		if got, want := here.Between(at, end), all[i:]; !slices.EqualFunc(got, want, time.Time.Equal) {
			t.Fatalf("%s from %v, between %s and %s:\n%v\nwant\n%v", rule, start, at, end, got, want)
		}
		back := at.AddDate(-1, 0, 0) // what was passed over is computed when it is asked for
		k, _ := slices.BinarySearchFunc(all, back.Add(1), time.Time.Compare)
		if got, want := here.Between(back, end), all[k:]; !slices.EqualFunc(got, want, time.Time.Equal) {
			t.Fatalf("%s from %v, back at %s:\n%v\nwant\n%v", rule, start, back, got, want)
		}
	}
	if trials < 100 {
		t.Errorf("only %d rules made something", trials)
	}
}

// A schedule that began long ago is computed from now on.
func TestFromNowOn(t *testing.T) {
	r := begin(t, "1950-01-01T00:00", "FREQ=HOURLY", "Europe/London")
	if at := r.Next(time.Date(2027, 3, 15, 8, 40, 0, 0, time.UTC)); at.Hour() != 9 || len(r.known) > 4*366*24 {
		t.Errorf("next at %s, of %d known", at, len(r.known))
	}
}

func FuzzRecurrence(f *testing.F) {
	f.Add("FREQ=MONTHLY;BYDAY=2SA")
	f.Add("FREQ=YEARLY;BYWEEKNO=20;BYSETPOS=-1;UNTIL=20270331T090000Z")
	f.Add("FREQ=YEARLY;BYSETPOS=1;BYHOUR=0,1;BYMINUTE=0,1,2;BYSECOND=" + upTo(59))
	f.Fuzz(func(t *testing.T, rule string) {
		r, err := NewRecurrence(value.Wall{Day: value.DayOf(2027, 3, 15), Second: 3600}, rule, time.UTC)
		if err != nil {
			return
		}
		at := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
		for range 3 {
			next := r.Next(at)
			if next.IsZero() {
				return
			}
			if !next.After(at) {
				t.Fatalf("%q goes back from %s to %s", rule, at, next)
			}
			at = next
		}
	})
}
