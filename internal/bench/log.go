package bench

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"nivot/internal/api"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// What the log is measured with: so many emails of two years, of so many sheets with three rules
// each, to so many addresses.
const (
	logEmails    = 5_000_000
	logSheets    = 20
	logAddresses = 200_000
	logGoal      = 300 * time.Millisecond
)

// emails is how many the log is measured with; NIVOT_BENCH_EMAILS says fewer.
func emails() int {
	if n, err := strconv.Atoi(os.Getenv("NIVOT_BENCH_EMAILS")); err == nil && n > 0 {
		return n
	}
	return logEmails
}

// log measures every page and filter of Today, the sheets and the log over what has gathered in
// years.
func (b *bench) log() error {
	st, err := b.store()
	if err != nil {
		return err
	}
	defer st.Close()
	clock := time.Date(2027, 3, 15, 8, 0, 0, 0, time.UTC)
	e := engine.New(st, func() time.Time { return clock }, engine.Options{})
	n := emails()
	sheets, rules, err := b.pastYears(st, e, clock, n)
	if err != nil {
		return err
	}
	base, stop, err := b.serve(e)
	if err != nil {
		return err
	}
	defer stop()
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	if err := st.SavePerson(b.ctx, &store.Person{ID: store.NewID(), Name: "Bench", Email: "bench@marrowby.example",
		Role:         store.Administrator,
		PasswordHash: api.HashPassword("weathercock-1790"), CreatedAt: clock}); err != nil {
		return err
	}
	o := &office{base: base}
	c := &http.Client{Jar: jar}
	if _, err := o.call(c, "POST", "/api/session", map[string]string{"email": "bench@marrowby.example",
		"password": "weathercock-1790"}); err != nil {
		return err
	}
	log := func(name, v string) string { return "/api/log?limit=100&" + name + "=" + url.QueryEscape(v) }
	deep, err := o.cursor(c, "/api/log?limit=500", 6)
	if err != nil {
		return err
	}
	for _, page := range []struct{ what, path string }{
		{"Today", "/api/today"}, {"the sheets", "/api/sheets"}, {"a sheet", "/api/sheets/" + sheets[3]},
		{"a sheet's rules", "/api/sheets/" + sheets[3] + "/rules"},
		{"the log", "/api/log?limit=100"}, {"the log, 3,000 lines on", "/api/log?limit=100&cursor=" + url.QueryEscape(deep)},
		{"the log of a sheet", log("sheet", sheets[3])}, {"the log of a rule", log("rule", rules[10])},
		{"the log of a row", log("row", store.RowID(1742))},
		{"the log since a day", log("since", "2026-11-02")}, {"what went out", log("state", "accepted")},
		{"what needs somebody", log("state", "incomplete,missed,held,failed,in-doubt,bounced")},
		{"failed and bounced", log("state", "failed,bounced")}, {"what was dropped, which is rare", log("state", "dropped")},
		{"skipped of a sheet", log("state", "skipped,dropped") + "&sheet=" + sheets[5]},
		{"all to an address", log("to", "contact77@borrower77.example")}, {"all to a part of an address",
			log("to", "act123")}, {"to a part that is in every address", log("to", "borrower")},
		{"a word in the subject, first page", log("text", "lantern")}, {"a word in no subject, the first stretch",
			log("text", "weathervane")},
		{"searching everything", "/api/search?q=lantern"},
	} {
		var took []float64
		for range rounds {
			began := time.Now()
			if _, err := o.call(c, "GET", page.path, nil); err != nil {
				return err
			}
			took = append(took, time.Since(began).Seconds()*1000)
		}
		ms := median(took)
		b.add(Result{What: fmt.Sprintf("%s, of %d emails", page.what, n), Against: "(as it is, over HTTP)",
			Value: fmt.Sprintf("%.0f ms", ms), Limit: fmt.Sprintf("%d ms", logGoal.Milliseconds()),
			Ratio: ms / float64(logGoal.Milliseconds()), Goal: "<= 1.00", Met: ms <= float64(logGoal.Milliseconds())})
	}
	return nil
}

// cursor goes pages on and gives the cursor behind them.
func (o *office) cursor(c *http.Client, path string, pages int) (cursor string, err error) {
	for range pages {
		text, err := o.call(c, "GET", path+"&cursor="+url.QueryEscape(cursor), nil)
		if err != nil {
			return "", err
		}
		var got struct{ Next string }
		if err := json.Unmarshal(text, &got); err != nil {
			return "", err
		}
		cursor = got.Next
	}
	return cursor, nil
}

// pastYears makes sheets with rules, and writes straight into the tables what they would have
// sent in two years.
func (b *bench) pastYears(st *store.Store, e *engine.Engine, now time.Time,
	n int) (sheets, rules []string, err error) {
	if sheets, rules, err = b.loanSheets(e); err != nil {
		return nil, nil, err
	}
	db := st.DB(b.ctx)
	if err := db.Exec(
		"CREATE TABLE bench_rules (n INT PRIMARY KEY, sheet_id VARCHAR(20), rule_id VARCHAR(20))").Error; err != nil {
		return nil, nil, err
	}
	for i, r := range rules {
		if err := db.Exec("INSERT INTO bench_rules VALUES (?, ?, ?)", i, sheets[i/3], r).Error; err != nil {
			return nil, nil, err
		}
	}
	// The keys are made after the rows, as they are when a database is restored: in order.
	var keys []struct{ Name, Columns, Once string }
	if err := db.Raw(
		`SELECT index_name AS name, GROUP_CONCAT(column_name ORDER BY seq_in_index) AS columns, IF(non_unique, '', 'UNIQUE ') AS once FROM information_schema.statistics
		WHERE table_schema = DATABASE() AND table_name = 'deliveries' AND index_name <> 'PRIMARY' GROUP BY index_name, non_unique`).Scan(&keys).Error; err != nil {
		return nil, nil, err
	}
	var drop, add []string
	for _, k := range keys {
		drop, add = append(drop, "DROP KEY "+k.Name), append(add, "ADD "+k.Once+"KEY "+k.Name+" ("+k.Columns+")")
	}
	if err := db.Exec("ALTER TABLE deliveries " + strings.Join(drop, ", ")).Error; err != nil {
		return nil, nil, err
	}
	const part = 250_000
	for from := 0; from < n; from += part {
		// Most of a rule's emails go at nine, some at another quarter of the day.
		err := db.Exec(
			`INSERT INTO deliveries (occasion, sheet_id, rule_id, row_id, sender_id, due_at, judged_at, went_at, state, reason, last_error, origin, facts, recipients, reply_to, subject, tries, finished_at, reply)
			SELECT UNHEX(MD5(seq)), r.sheet_id, r.rule_id, 1 + seq % 50000, 's', @due := DATE_ADD(DATE_SUB(?, INTERVAL 730 DAY), INTERVAL FLOOR(seq * 729 / ?) DAY) + INTERVAL IF(seq % 4 = 0, (seq % 36) * 15, 60) MINUTE, @due, @due,
				IF(seq % 97 = 0, 'skipped', IF(seq % 1009 = 0, 'failed', IF(seq % 40009 = 0, 'held', IF(seq % 50021 = 0, 'incomplete', IF(seq = 77777, 'dropped', 'accepted'))))),
				'{"code":"date"}', '', '{}', '[["c1","Loan","LN"]]', CONCAT('[{"role":"to","mailbox":"contact', @who := seq % ?, '@borrower', @who % 900, '.example"}]'), '',
				CONCAT(ELT(1 + seq % 5, 'Ebony butter stamp', 'Glass weathercock', 'Oak tally board', IF(seq % 50 = 8, 'Tin lantern', 'Tin lamp'), 'Log of the Petrel'), ', no. ', seq, ' is due back on Monday'), 1, @due, '250 2.0.0 Ok'
			FROM seq_1_to_`+fmt.Sprint(n)+` s JOIN bench_rules r ON r.n = (seq DIV 7) % 60 WHERE seq > ? AND seq <= ?`,
			now.Truncate(24*time.Hour), n, logAddresses, from, from+part).Error
		if err != nil {
			return nil, nil, err
		}
		fmt.Fprintf(b.out, "  %d emails written\n", min(n, from+part))
	}
	for _, q := range []string{
		"ALTER TABLE deliveries " + strings.Join(add, ", "),
		"INSERT INTO delivery_counts SELECT FLOOR(TIMESTAMPDIFF(SECOND, '1970-01-01', due_at) / 900) AS q, rule_id, " +
			"sheet_id, state, 0, COUNT(*) FROM deliveries GROUP BY q, rule_id, sheet_id, state",
		"INSERT INTO delivery_counts SELECT -2147483648, rule_id, sheet_id, state, 0, SUM(n) FROM delivery_counts GROUP " +
			"BY rule_id, sheet_id, state",
		"INSERT INTO addressees (digest, mailbox, searched) SELECT UNHEX(LEFT(SHA2(m, 256), 32)), m, m FROM (SELECT " +
			"DISTINCT JSON_VALUE(recipients, '$[0].mailbox') AS m FROM deliveries) x",
		"INSERT INTO delivery_addressees SELECT a.id, d.due_at, d.id FROM deliveries d JOIN addressees a ON a.mailbox = " +
			"JSON_VALUE(d.recipients, '$[0].mailbox') AND a.digest = UNHEX(LEFT(SHA2(JSON_VALUE(d.recipients, " +
			"'$[0].mailbox'), 256), 32))",
		"ANALYZE TABLE deliveries, delivery_counts, addressees, delivery_addressees",
	} {
		if err := db.Exec(q).Error; err != nil {
			return nil, nil, err
		}
	}
	return sheets, rules, nil
}

// loanSheets makes sheets with three rules each.
func (b *bench) loanSheets(e *engine.Engine) (sheets, rules []string, err error) {
	for k := range logSheets {
		rec := &store.Sheet{Name: fmt.Sprintf("Loans %d", k+1), Zone: "Europe/London", Locale: "en-GB"}
		cols := []sheet.Column{{Name: "Loan", Type: value.Text}, {Name: "Email", Type: value.Email},
			{Name: "Return due", Type: value.Date, Order: value.YearMonthDay}}
		if err := e.CreateSheet(b.ctx, rec, cols, 0, 1, "bench"); err != nil {
			return nil, nil, err
		}
		sheets = append(sheets, rec.ID)
		tpl := &template.Template{Name: "Return"}
		core, err := rec.Core()
		if err != nil {
			return nil, nil, err
		}
		if tpl.Subject, err = template.ParseLine("[Loan] is due back", core); err != nil {
			return nil, nil, err
		}
		if tpl.Body, err = template.ParseText("[Loan] is due back on [Return due: long].", core); err != nil {
			return nil, nil, err
		}
		wording, err := e.SaveTemplate(b.ctx, rec.ID, "", tpl, 0, "bench")
		if err != nil {
			return nil, nil, err
		}
		for i := range 3 {
			r := &rule.Rule{Name: fmt.Sprintf("Return reminder %d", i+1), Trigger: rule.Trigger{Kind: "date", Column: "c3",
				Offsets: []rule.Offset{{N: -7, Unit: rule.Days}}, At: "09:00"},
				Send: []rule.Wording{{Template: wording.ID}}, To: []rule.Address{{Column: "c2"}}}
			saved, err := e.SaveRule(b.ctx, rec.ID, "", r, 0, "bench")
			if err != nil {
				return nil, nil, err
			}
			rules = append(rules, saved.ID)
		}
	}
	return sheets, rules, nil
}
