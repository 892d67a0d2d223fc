package api

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	sqldriver "github.com/go-sql-driver/mysql"
)

// A database whose disk is full is not a fault of the program, and says what to do.
func TestFullDisk(t *testing.T) {
	for _, number := range []uint16{1021, 1114} {
		full := &sqldriver.MySQLError{Number: number, Message: "The table is full"}
		status, p := toProblem(fmt.Errorf("writing rows: %w", full))
		if status != http.StatusServiceUnavailable || !strings.Contains(p.Title, "disk is full") {
			t.Errorf("error %d is %d %q, want 503 and that the disk is full", number, status, p.Title)
		}
	}
}
