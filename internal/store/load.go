package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"sync/atomic"
	"time"

	sqldriver "github.com/go-sql-driver/mysql"
)

// loadFrom is from how many rows on they are loaded rather than inserted: the
// server then parses no statement of their size.
const loadFrom = 1000

// loads names the readers that are being loaded from.
var loads atomic.Int64

// noLoading notes that the server lets no client load (local_infile is off).
var noLoading atomic.Bool

// loadRows adds rows by LOAD DATA LOCAL. done is false where the server does
// not allow it; nothing has been written then.
func (s *Store) loadRows(ctx context.Context, rows []*Row) (done bool, err error) {
	var b bytes.Buffer
	for _, r := range rows {
		writeLoaded(&b, r)
	}
	name := fmt.Sprintf("rows-%d", loads.Add(1))
	sqldriver.RegisterReaderHandler(name, func() io.Reader { return &b })
	defer sqldriver.DeregisterReaderHandler(name)
	res := s.DB(ctx).Exec("LOAD DATA LOCAL INFILE 'Reader::" + name + "' INTO TABLE sheet_rows CHARACTER SET binary (" +
		rowColumns + ")")
	var me *sqldriver.MySQLError
	if errors.As(res.Error, &me) && (me.Number == 1148 || me.Number == 3948 || me.Number == 4166) {
		return false, nil
	}
	// Loading takes a fault for a warning; a row that is not there is none.
	if res.Error == nil && res.RowsAffected != int64(len(rows)) {
		return true, fmt.Errorf("of %d rows the database took %d", len(rows), res.RowsAffected)
	}
	return true, res.Error
}

// writeLoaded writes a row in the order of rowColumns, fields parted by tabs.
func writeLoaded(b *bytes.Buffer, r *Row) {
	number := func(n int64) { b.Write(strconv.AppendInt(b.AvailableBuffer(), n, 10)) }
	data := func(p []byte) {
		if p == nil {
			b.WriteString(`\N`)
			return
		}
		for _, c := range p {
			switch c {
			case '\\', '\t', '\n', '\r':
				b.WriteByte('\\')
				b.WriteByte(c)
			case 0:
				b.WriteString(`\0`)
			default:
				b.WriteByte(c)
			}
		}
	}
	at := func(t *time.Time) {
		if t == nil {
			b.WriteString(`\N`)
			return
		}
		b.Write(t.UTC().AppendFormat(b.AvailableBuffer(), "2006-01-02 15:04:05.000000"))
	}
	tab := func() { b.WriteByte('\t') }
	b.WriteString(r.SheetID)
	tab()
	number(r.Number)
	tab()
	number(r.Place)
	tab()
	data(r.RowKey)
	tab()
	data(r.Cells)
	tab()
	data(r.Settled)
	tab()
	number(r.Version)
	tab()
	at(r.FirstEdit)
	tab()
	at(r.LastEdit)
	tab()
	at(r.SettledAt)
	tab()
	if r.Gone {
		b.WriteByte('1')
	} else {
		b.WriteByte('0')
	}
	tab()
	at(r.DeletedAt)
	tab()
	if r.Born == nil {
		b.WriteString(`\N`)
	} else {
		number(*r.Born)
	}
	tab()
	number(r.Changed)
	b.WriteByte('\n')
}
