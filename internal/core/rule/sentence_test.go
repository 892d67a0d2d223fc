package rule

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"nivot/internal/core/calendar"
)

func says(id string) string {
	if name, ok := map[string]string{"t": "Return", "u": "Overdue"}[id]; ok {
		return name
	}
	return Open
}

// Every clause of a rule is read, written and read again as the same rule, and
// has its words in the sentence, at its place.
func TestSentence(t *testing.T) {
	s := loans()
	for _, c := range []struct{ name, in, want, place string }{
		{"offsets",
			withTrigger(
				`{"kind":"date","column":"due","offsets":[{"n":-30,"unit":"days"},{"n":-1,"unit":"days"},{"n":2,"unit":"working-days"}],"at":"08:30"}`, ""),
			"30 and 1 days before and 2 working days after return due at 08:30, write Return to contact email.",
			"/trigger/offsets=30 and 1 days before and 2 working days after"},
		{"on the day", withTrigger(`{"kind":"date","column":"due","offsets":[{"n":0,"unit":"days"}]}`, ""),
			"On return due at 09:00, write Return to contact email.", "/trigger/at=09:00"},
		{"working day itself", withTrigger(`{"kind":"date","column":"due","offsets":[{"n":0,"unit":"working-days"}]}`, ""),
			"On the first working day from return due at 09:00, write Return to contact email.", "/trigger/column=return due"},
		{"own wording",
			withTrigger(
				`{"kind":"date","column":"due","offsets":[{"n":-7,"unit":"days"},{"n":3,"unit":"days","template":"u"},{"n":10,"unit":"days","template":"u"}]}`, ""),
			"7 days before and 3 and 10 days after return due at 09:00, write Return, but Overdue 3 days after, Overdue 10 " +
				"days after, to contact email.", "/trigger/offsets/1/template=Overdue"},
		{"own wording on the day",
			withTrigger(
				`{"kind":"date","column":"due","offsets":[{"n":-7,"unit":"days"},{"n":0,"unit":"days","template":"u"}]}`, ""),
			"7 days before and on return due at 09:00, write Return, but Overdue on the day, to contact email.",
			"/trigger/offsets/1/template=Overdue"},
		{"each year",
			withTrigger(
				`{"kind":"date","column":"due","offsets":[{"n":0,"unit":"days"}],"every":{"unit":"years","n":1,"times":5}}`, ""),
			"On return due, every year, 5 times in all, at 09:00, write Return to contact email.",
			"/trigger/every=every year, 5 times in all"},
		{"hours before a moment", withTrigger(`{"kind":"date","column":"at","offsets":[{"n":-1,"unit":"hours"}]}`, ""),
			"1 hour before read at at its own time, write Return to contact email.", "/trigger/at=its own time"},
		{"zone", withTrigger(onDate, `,"zone":"Europe/Paris"`),
			"7 days before return due at 09:00 in Europe/Paris, write Return to contact email.", "/zone=Europe/Paris"},

		{"a delay", withTrigger(strings.Replace(onChange, `"kind"`, `"delay":"PT1H","kind"`, 1), ""),
			"An hour after state becomes out, write Return to contact email.", "/trigger/delay=An hour after"},
		{"a delay after adding", withTrigger(`{"kind":"added","delay":"P2D"}`, ""),
			"2 days after a row is added, write Return to contact email.", "/trigger/delay=2 days after"},
		{"state set", withTrigger(onChange, ""), "As soon as state becomes out, write Return to contact email.",
			"/trigger/to=becomes out"},
		{"state left", withTrigger(`{"kind":"change","column":"state","to":null,"from":["out"]}`, ""),
			"As soon as state is no longer out, write Return to contact email.", "/trigger/from=is no longer out"},
		{"one of two left", withTrigger(`{"kind":"change","column":"state","to":null,"from":["out","back"]}`, ""),
			"As soon as state changes from out or back, write Return to contact email.",
			"/trigger/from=changes from out or back"},
		{"from one to another", withTrigger(`{"kind":"change","column":"state","to":["back"],"from":["out","s1"]}`, ""),
			"As soon as state goes from out or asked for to back, write Return to contact email.",
			"/trigger/from=out or asked for"},
		{"any change", withTrigger(`{"kind":"change","column":"due","to":null}`, ""),
			"Whenever return due changes, write Return to contact email.", "/trigger/column=return due"},
		{"box ticked", withTrigger(`{"kind":"change","column":"open","to":[true]}`, ""),
			"As soon as open becomes yes, write Return to contact email.", "/trigger/kind=As soon as"},
		{"added", withTrigger(`{"kind":"added"}`, ""), "As soon as a row is added, write Return to contact email.",
			"/trigger/kind=As soon as a row is added"},
		{"edited", withTrigger(`{"kind":"edited","columns":["due","hum"]}`, ""),
			"Whenever return due or humidity is edited, write Return to contact email.",
			"/trigger/columns=return due or humidity"},
		{"row's own limit", withTrigger(onThreshold, ""),
			"As soon as humidity reaches limit, write Return to contact email.", "/trigger/limit=limit"},
		{"re-arm level", withTrigger(`{"kind":"threshold","column":"hum","op":">","limit":1500.5,"rearm":1400}`, ""),
			"As soon as humidity rises above 1500.5, and again only once it has come back to 1400, write Return to contact " +
				"email.", "/trigger/rearm=1400"},
		{"re-arm share", withTrigger(`{"kind":"threshold","column":"hum","op":"<","limit":30,"rearm":{"percent":8}}`, ""),
			"As soon as humidity falls below 30, and again only once it has come back to 8% above the limit, write Return to " +
				"contact email.", "/trigger/op=falls below"},
		{"by hand", withTrigger(`{"kind":"by-hand"}`, ""),
			"By hand, to the rows that somebody picks, write Return to contact email.", "/trigger/kind=By hand"},
		{"nothing said", `{"name":"","trigger":{"kind":""},"send":[],"to":[]}`, "When …, write … to ….",
			"/send/0/template=…"},

		{"condition",
			withTrigger(onDate,
				`,"condition":{"all":[{"column":"state","op":"one-of","value":["out","s3"]},{"column":"hum","op":">=","value":55}]}`),
			"7 days before return due at 09:00, for rows where state is out or back and humidity is at least 55, write " +
				"Return to contact email.", "/condition=state is out or back and humidity is at least 55"},
		{"tree",
			withTrigger(onDate,
				`,"condition":{"any":[{"not":{"column":"open","op":"is","value":true}},{"all":[{"column":"due2","op":"days-away","value":[0,7]},{"column":"hum","op":"<","value":{"column":"lim"}},{"column":"state","op":"changed-within","value":"P3D"}]}]}`),
			"7 days before return due at 09:00, for rows where it is not so that open is yes or (insured until is 0 to 7 " +
				"days away and humidity is below limit and state has changed within 3 days), write Return to contact email.", ""},
		{"wordings", `{"name":"x","trigger":` + onThreshold +
			`,"send":[{"if":{"column":"hum","op":">","value":65},"template":"u"},{"template":"t"}],"to":[{"column":"mail"}]}`,
			"As soon as humidity reaches limit, write Overdue where humidity is above 65, else Return, to contact email.",
			"/send/0/if=humidity is above 65"},
		{"unsubscribing", withTrigger(onDate, `,"optOut":true`),
			"7 days before return due at 09:00, write Return to contact email. Email programs offer to unsubscribe.",
			"/optOut=to unsubscribe"},
		{"each alone", withTrigger(onDate, `,"each":true`),
			"7 days before return due at 09:00, write Return to contact email, each alone.", "/each=each alone"},
		{"copies", `{"name":"x","trigger":` + onDate +
			`,"send":[{"template":"t"}],"to":[{"column":"mail"},{"address":"desk@marrowby.example"}],"cc":[{"person":"ines@marrowby.example"}],"bcc":[{"column":"mail"}],"replyTo":[{"address":"loans@marrowby.example"}]}`,
			"7 days before return due at 09:00, write Return to contact email and desk@marrowby.example, with a copy to " +
				"ines@marrowby.example, with a blind copy to contact email, replies to loans@marrowby.example.",
			"/bcc=contact email"},
		{"copy to nobody yet", withTrigger(onDate, `,"cc":[{}]`),
			"7 days before return due at 09:00, write Return to contact email, with a copy to ….", "/cc=…"},
		{"round-up", withTrigger(onSchedule, `,"groupBy":"recipient"`),
			"Every Friday at 15:30, write Return as one round-up for each address of contact email.", "/groupBy=one round-up"},

		{"window",
			withTrigger(onDate, `,"window":{"weekdays":["mon","tue"],"from":"08:00","until":"17:00"},"shift":"earlier"`),
			"7 days before return due at 09:00, write Return to contact email. Only on Monday and Tuesday from 08:00 until " +
				"17:00; what falls outside goes at the last such time before.",
			"/window=on Monday and Tuesday from 08:00 until 17:00"},
		{"working days", withTrigger(onDate, `,"window":{"workingDays":true}`),
			"7 days before return due at 09:00, write Return to contact email. Only on working days; what falls outside goes " +
				"at the next such time.", "/shift=at the next such time"},
		{"not again within", withTrigger(onChange, `,"repeat":{"not-more-often-than":"P30D"}`),
			"As soon as state becomes out, write Return to contact email. Not again to the same row within 30 days.",
			"/repeat=Not again to the same row within 30 days"},
		{"once", withTrigger(onThreshold, `,"repeat":"once-per-row"`),
			"As soon as humidity reaches limit, write Return to contact email. Only once per row.",
			"/repeat=Only once per row"},
		{"late", withTrigger(onDate, `,"late":"P3D"`),
			"7 days before return due at 09:00, write Return to contact email. Not later than 3 days after it was due.",
			"/late=3 days"},
		{"ask first", withTrigger(onChange, `,"hold":"always"`),
			"As soon as state becomes out, write Return to contact email. Each email is held until somebody has reviewed it.",
			"/hold=Each email"},
		{"first run", withTrigger(onDate, `,"hold":"first-run"`),
			"7 days before return due at 09:00, write Return to contact email. The first run is held until somebody has " +
				"reviewed it.", "/hold=The first run"},
		{"brake", withTrigger(onEdit, `,"brake":{"count":20,"share":0.25}`),
			"Whenever return due is edited, write Return to contact email. More than 20 emails in ten minutes, or 25% of the " +
				"rows and at least 10, are held until somebody has reviewed them.",
			"/brake=More than 20 emails in ten minutes, or 25% of the rows and at least 10,"},
		{"several bounds", withTrigger(onDate, `,"late":"P3D","hold":"always"`),
			"7 days before return due at 09:00, write Return to contact email. Not later than 3 days after it was due. Each " +
				"email is held until somebody has reviewed it.", ""},

		{"follow-ups",
			withTrigger(onChange,
				`,"then":{"steps":[{"after":"PT1H","template":"t"},{"after":"P3D","template":"u"},{"after":"P1W","template":"u"}],"stopIf":{"column":"state","op":"is","value":"back"}}`),
			"As soon as state becomes out, write Return to contact email. Again after an hour with Return, after 3 days with " +
				"Overdue, and after a week with Overdue, until state is back.", "/then/stopIf=state is back"},
		{"a step to others",
			withTrigger(onDate,
				`,"then":{"steps":[{"after":"P1D","at":"08:30","template":"u","every":"P1W","times":3,"to":[{"column":"mail"}],"cc":[{"address":"head@marrowby.example"}]}]}`),
			"7 days before return due at 09:00, write Return to contact email. Again after a day at 08:30 with Overdue and " +
				"then every week, 3 times in all to contact email, with a copy to head@marrowby.example.",
			"/then/steps/0/every=every week, 3 times in all"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := Decode([]byte(c.in))
			if err != nil {
				t.Fatal(err)
			}
			b, err := json.Marshal(r)
			if err != nil {
				t.Fatal(err)
			}
			again, err := Decode(b)
			if err != nil {
				t.Fatal(err)
			}
			if b2, _ := json.Marshal(again); string(b) != string(b2) || len(again.Cc) != len(r.Cc) ||
				!reflect.DeepEqual(r.Trigger, again.Trigger) || !reflect.DeepEqual(r.Then, again.Then) {
				t.Errorf("%s\nis written as\n%s\nand read as %+v", c.in, b, again)
			}
			segments := r.Sentence(s, says)
			if got := Text(segments); got != c.want {
				t.Errorf("%s\nwant\n%s", got, c.want)
			}
			place, words, _ := strings.Cut(c.place, "=")
			found := place == ""
			for _, x := range segments {
				found = found || x.Place == place && x.Text == words
			}
			if !found {
				t.Errorf("no %s in %+v", c.place, segments)
			}
		})
	}
}

// Recurrences in words; what has none is said as it is written.
func TestScheduleWords(t *testing.T) {
	for _, c := range []struct{ start, rrule, more, want string }{
		{"2027-03-19T15:30", "", "", "once, on 19 Mar 2027 at 15:30"},
		{"2027-03-19T15:30", "FREQ=DAILY", "", "every day at 15:30"},
		{"2027-03-19T15:30", "FREQ=DAILY;INTERVAL=1", "", "every day at 15:30"},
		{"2027-03-19T15:30", "FREQ=DAILY;INTERVAL=2", "", "every second day from 19 Mar 2027 at 15:30"},
		{"2027-03-19T15:30", "FREQ=DAILY;INTERVAL=10", "", "every 10 days from 19 Mar 2027 at 15:30"},
		{"2027-03-19T09:00", "FREQ=DAILY;BYDAY=MO,TU,WE,TH,FR", "", "every weekday at 09:00"},
		{"2027-03-19T09:00", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "", "every weekday at 09:00"},
		{"2027-03-19T15:30", "FREQ=WEEKLY", "", "every Friday at 15:30"},
		{"2027-03-19T15:30", "RRULE:freq=weekly;byday=mo,th;", "", "every Monday and Thursday at 15:30"},
		{"2027-03-20T09:00", "FREQ=WEEKLY;INTERVAL=2;BYDAY=SA", "", "every second Saturday from 20 Mar 2027 at 09:00"},
		{"2027-03-20T09:00", "FREQ=WEEKLY;INTERVAL=2;BYDAY=SA,SU;COUNT=4", "",
			"every second week on Saturday and Sunday from 20 Mar 2027 at 09:00, 4 times in all"},
		{"2027-03-13T09:00", "FREQ=MONTHLY;BYDAY=2SA", "", "on the second Saturday of each month at 09:00"},
		{"2027-03-13T09:00", "FREQ=MONTHLY;BYDAY=SA;BYSETPOS=-1", "", "on the last Saturday of each month at 09:00"},
		{"2027-03-13T09:00", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", "",
			"on the last weekday of each month at 09:00"},
		{"2027-03-13T09:00", "FREQ=MONTHLY", "", "on the 13th of each month at 09:00"},
		{"2027-03-13T09:00", "FREQ=MONTHLY;BYMONTHDAY=1,15", "", "on the 1st and 15th of each month at 09:00"},
		{"2027-03-13T09:00", "FREQ=MONTHLY;BYMONTHDAY=-1", "", "on the last day of each month at 09:00"},
		{"2027-03-13T09:00", "FREQ=MONTHLY;BYMONTHDAY=-1", `,"window":{"workingDays":true},"shift":"earlier"`,
			"on the last working day of each month at 09:00"},
		{"2027-03-13T09:00", "FREQ=MONTHLY;BYMONTHDAY=1", `,"window":{"workingDays":true}`,
			"on the first working day of each month at 09:00"},
		{"2027-03-13T09:00", "FREQ=MONTHLY;BYMONTHDAY=1", `,"window":{"workingDays":true,"from":"08:00"}`,
			"on the 1st of each month at 09:00"},
		{"2027-01-01T09:00", "FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=1", "",
			"on the 1st of January, April, July and October at 09:00"},
		{"2027-02-22T09:00", "FREQ=MONTHLY;INTERVAL=3", "", "on the 22nd of February, May, August and November at 09:00"},
		{"2027-01-11T09:00", "FREQ=MONTHLY;INTERVAL=5", "", "on the 11th of every 5th month from January at 09:00"},
		{"2027-04-03T09:00", "FREQ=YEARLY", "", "every year on the 3rd of April at 09:00"},
		{"2027-04-03T09:00", "FREQ=YEARLY;BYMONTH=4,10;BYMONTHDAY=-1", "",
			"every year on the last day of April and October at 09:00"},
		{"2027-04-03T09:00", "FREQ=YEARLY;BYMONTH=3;BYDAY=-1SU;UNTIL=20300101", "",
			"every year on the last Sunday of March at 09:00, until 1 Jan 2030"},
		{"2027-04-03T09:00", "FREQ=YEARLY;BYWEEKNO=12", "", "every year in week 12 on Saturday at 09:00"},
		{"2027-04-03T09:00", "FREQ=HOURLY;INTERVAL=6", "", "every 6 hours from 3 Apr 2027 09:00"},
		{"2027-04-03T09:00", "FREQ=WEEKLY;UNTIL=20270501T170000Z", "",
			"every Saturday at 09:00, until 1 May 2027 17:00 UTC"},
		{"2027-04-03T09:00", "FREQ=DAILY;BYHOUR=9,15", "",
			"by the recurrence FREQ=DAILY;BYHOUR=9,15 from 3 Apr 2027 at 09:00 on"},
		{"2027-04-03T09:00", "FREQ=YEARLY;BYMONTH=1,4;BYDAY=MO;BYSETPOS=1", "",
			"by the recurrence FREQ=YEARLY;BYMONTH=1,4;BYDAY=MO;BYSETPOS=1 from 3 Apr 2027 at 09:00 on"},
	} {
		t.Run(c.rrule+c.more, func(t *testing.T) {
			rrule, _ := json.Marshal(c.rrule)
			if c.rrule == "" {
				rrule = []byte("null")
			}
			r, err := Decode([]byte(withTrigger(`{"kind":"schedule","start":"`+c.start+`","rrule":`+string(rrule)+`}`, c.more)))
			if err != nil {
				t.Fatal(err)
			}
			if err := r.Validate(scope(loans())); err != nil {
				t.Error(err)
			}
			if got := r.scheduleWords(); got != c.want {
				t.Errorf("%s\nwant\n%s", got, c.want)
			}
		})
	}
}

// Several faults are told at once, each with its place; what can never come is
// one.
func TestFaults(t *testing.T) {
	s := scope(loans())
	s.Calendar = calendar.Default()
	for _, c := range []struct{ in, want string }{
		{`{"name":"","trigger":{"kind":""},"send":[],"to":[]}`, "/name /trigger/kind /send /to"},
		{withTrigger(`{"kind":"schedule","start":"2027-03-19T15:30","rrule":"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"}`,
			`,"late":"soon"`), "/trigger/rrule /late"},
		{withTrigger(onDate, `,"window":{"weekdays":["sat","sun"],"workingDays":true}`), "/window"},
		{withTrigger(onDate, `,"window":{"weekdays":["sat","mon"],"workingDays":true}`), ""},
		{withTrigger(onDate, `,"then":{"steps":[{"after":"-P1D","template":"t"}]}`), "/then/steps/0/after"},
		{withTrigger(onDate, `,"then":{"steps":[{"after":"PT0H","template":"t"}]}`), "/then/steps/0/after"},
		{withTrigger(onDate, ""), ""},
	} {
		r, err := Decode([]byte(c.in))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, f := range r.Faults(s) {
			got = append(got, f.Pointer)
			if f.Message == "" {
				t.Errorf("%s: %s says nothing", c.in, f.Pointer)
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v\nwant %s", c.in, got, c.want)
		}
	}
}
