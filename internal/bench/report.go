package bench

import (
	"fmt"
	"slices"
	"strings"
)

// bounds says of rows, by how they begin, what bounds them where their goal is not met.
var bounds = []struct{ what, by string }{
	{"dispatch", "the database's work per email: its mark and its outcome are two updates of its row, durable before the " +
		"next step, 0.2 ms of processor time, where the bare loop has 0.3 ms in all. Two processors have no more to give."},
	{"tick, 1,000 due", "what an email writes: its row with eight indexes, its letter, its addressee, the agenda's entry " +
		"that goes and the next one, what its rule knows of its row, where the limit writes one row. A third of the " +
		"processors' time is judging, writing and packing its letter; both are at work all along."},
	{"tick, nothing due", "the noise of the machine: both sides ask the same two questions."},
	{"render a 4 KB letter", "MIME, which both sides make: quoted-printable and headers. The ratio is what Nivot adds; the " +
		"10,000 a second want a faster machine."},
	{"redo of an email", "two thirds are what is kept: its row with eight indexes, its letter, the agenda's entry that " +
		"goes. The rest are two moves in each of two indexes."},
	{"rehearsal", "judging and writing some 800,000 lines, and putting in order what memory does not hold; on all processors, " +
		"of which here are two."},
	{"reading 1,000,000 rows", "the making of twelve cells a row."},
	{"judging an occasion", "the recipients' mailboxes and the subject's words."},
	{"checks of a template", "writing every row's letter as far as its gaps go."},
	{"import CSV", "the reading of every text as its column's type, keys that must be no two the same, and the note of " +
		"what the import has changed; its rows are loaded with LOAD DATA too."},
	{"a cell's edit", "22 statements, each a way to the database and back, and GORM's 0.05 ms beside each: the row, what it " +
		"waits for, its rules' standing and what has been sent are asked for under locks, and nothing that decides is " +
		"kept outside the database."},
	{"the same edit", "the noise of the machine: the statements are the same, by key."},
	{"order of 1,000,000 rows", "the sorting of a million values of two columns, after the reading that a filter takes too."},
	{"filter of 1,000,000 rows", "the reading of the rows, which is the limit."},
	{"effect on", "the reading of the rows the first time, which are kept after it."},
	{"saving it while it is on, prepared", "the reading of a million rows under locks, in batches that each are a transaction, " +
		"beside the taking away of the entries of the rule as it was."},
	{"200 people", "two processors for the server, the database and 200 clients."},
	{"200 open pages", "some 45 answers of 200 rows a second where the edits are spread over the whole sheet, each made " +
		"once for all who ask in the same moment; and who asks, which every request reads from the database, so that " +
		"who is signed out is out."},
	{"grid of 1,000,000 rows", "a browser that draws without a graphics processor, beside the server and the database."},
	{"all to an address", "looking through every address there is for a part of one."},
	{"searching everything", "the subject, which is looked through until 150 ms are over."},
}

// boundOf says what bounds a row.
func boundOf(what string) (begins, by string) {
	i := slices.IndexFunc(bounds, func(b struct{ what, by string }) bool { return strings.HasPrefix(what, b.what) })
	if i < 0 {
		return what, "not looked into yet."
	}
	return bounds[i].what, bounds[i].by
}

// Markdown gives a run's table as a page of the docs, and what bounds the rows whose goals are not
// met. large says that the run was that of `make bench-large`.
func Markdown(rows []Result, machine string, large bool) string {
	var b strings.Builder
	if large {
		b.WriteString("# Benchmarks with millions of emails\n\nWritten by `make bench-large`: what takes longer than ten " +
			"minutes. Emails of two years, of 20 sheets\nwith three rules each, to 200,000 addresses; medians of five over " +
			"HTTP, everything that the page asks for\nincluded. A cluster needs `galera-4`; its three nodes are on one " +
			"machine here, and stand beside one server.\n\n")
	} else {
		b.WriteString("# Benchmarks\n\nWritten by `make bench`. Each figure stands beside a limit taken in the same run; the " +
			"two sides are\ninterleaved, medians of five rounds or more. Absolute figures are those of one machine, the " +
			"ratios are what counts.\n\n")
	}
	fmt.Fprintf(&b,
		"Machine: %s.\n\n| what | figure | against | limit | ratio | goal | met |\n|---|---|---|---|---|---|---|\n", machine)
	var behind [][2]string
	for _, r := range rows {
		met := "yes"
		if !r.Met {
			met = "no"
			begins, by := boundOf(r.What)
			if line := [2]string{begins, by}; !slices.Contains(behind, line) {
				behind = append(behind, line)
			}
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %.2f | %s | %s |\n", r.What, r.Value, r.Against, r.Limit, r.Ratio, r.Goal,
			met)
	}
	if len(behind) > 0 {
		b.WriteString("\n## What bounds the rows whose goal is not met\n\n")
	}
	for _, line := range behind {
		fmt.Fprintf(&b, "- **%s**: %s\n", line[0], line[1])
	}
	return b.String()
}
