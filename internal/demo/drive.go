package demo

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"nivot/internal/engine"
)

// Drive stands in for a shared drive: a folder with the file of the museum's
// climate logger, in which readings change now and then.
type Drive struct {
	Folder string
	now    engine.Clock
	random *rand.Rand
}

// driveFile is the logger's file; its columns are some of the display cases'.
const driveFile = "display-cases.csv"

var driveColumns = []string{"Case", "Humidity now", "Temperature", "Last reading"}

// OpenDrive makes the folder and, where it is not there yet or begins anew, the
// file.
func OpenDrive(folder string, now engine.Clock, anew bool) (*Drive, error) {
	d := &Drive{Folder: folder, now: now, random: rand.New(rand.NewPCG(1832, 3))}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(folder, driveFile)); err == nil && !anew {
		return d, nil
	}
	data, err := fs.ReadFile(bundles, "bundles/cases/rows.csv")
	if err != nil {
		return nil, err
	}
	rows, err := csv.NewReader(bytes.NewReader(data)).ReadAll()
	if err != nil {
		return nil, err
	}
	at := map[string]int{}
	for i, h := range rows[0] {
		at[h] = i
	}
	out := make([][]string, len(rows))
	for i, r := range rows {
		for _, c := range driveColumns {
			out[i] = append(out[i], r[at[c]])
		}
	}
	return d, d.write(out)
}

// write puts the file in place whole, as a careful program does.
func (d *Drive) write(rows [][]string) error {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	if err := w.WriteAll(rows); err != nil {
		return err
	}
	part := filepath.Join(d.Folder, "."+driveFile)
	if err := os.WriteFile(part, b.Bytes(), 0o644); err != nil {
		return err
	}
	return os.Rename(part, filepath.Join(d.Folder, driveFile))
}

// Run lets the logger write until the context ends: each time a few cases.
func (d *Drive) Run(ctx context.Context, every time.Duration) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
		if err := d.Step(); err != nil {
			slog.Warn("the simulated shared drive could not be written", "error", err)
		}
	}
}

// Step lets the logger write once: new readings in some of the cases.
func (d *Drive) Step() error {
	data, err := os.ReadFile(filepath.Join(d.Folder, driveFile))
	if err != nil {
		return err
	}
	rows, err := csv.NewReader(bytes.NewReader(data)).ReadAll()
	if err != nil || len(rows) < 2 {
		return fmt.Errorf("%s cannot be read: %w", driveFile, err)
	}
	zone, err := time.LoadLocation(Zone)
	if err != nil {
		return err
	}
	for range 2 + d.random.IntN(4) {
		r := rows[1+d.random.IntN(len(rows)-1)]
		if n, err := strconv.Atoi(r[1]); err == nil {
			r[1] = strconv.Itoa(min(80, max(25, n+d.random.IntN(5)-2)))
		}
		r[3] = d.now().In(zone).Format("02/01/2006 15:04")
	}
	return d.write(rows)
}
