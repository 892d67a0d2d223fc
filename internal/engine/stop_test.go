package engine

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"nivot/internal/database"
	"nivot/internal/database/dbtest"
	"nivot/internal/store"
)

// A process that is told to stop does, whatever hangs: what it waits for is left, and taken over
// by the next process as that of one that was killed.
func TestStopsWhateverHangs(t *testing.T) {
	t.Parallel() // it waits most of the time
	bin := filepath.Join(t.TempDir(), "nivot")
	if out, err := exec.Command("go", "build", "-o", bin, "nivot/cmd/nivot").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	silent := func(t *testing.T) (port int, met chan net.Conn) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		met = make(chan net.Conn, 1000)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				met <- c
			}
		}()
		return l.Addr().(*net.TCPAddr).Port, met
	}
	tests := []struct {
		name string
		hang func(t *testing.T, dsn, addr, pid string, met chan net.Conn)
	}{
		{"nothing", func(*testing.T, string, string, string, chan net.Conn) {}},
		{"a mail server that says nothing", func(t *testing.T, _, _, _ string, met chan net.Conn) {
			select {
			case <-met:
			case <-time.After(time.Minute):
				t.Fatal("the mail server is never met")
			}
		}},
		{"requests that do not end", func(t *testing.T, _, addr, _ string, _ chan net.Conn) {
			for _, head := range []string{"POST /api/sign-in HTTP/1.1\r\nHost: h\r\nContent-Type: " +
				"application/json\r\nContent-Length: 900\r\n\r\n{", "GET /", ""} {
				c, err := net.Dial("tcp", addr)
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() { c.Close() })
				fmt.Fprint(c, head)
			}
			time.Sleep(100 * time.Millisecond)
		}},
		{"a database that stands still", func(t *testing.T, _, _, pid string, _ chan net.Conn) {
			b, err := os.ReadFile(pid)
			if err != nil {
				t.Fatal(err)
			}
			n, err := strconv.Atoi(strings.TrimSpace(string(b)))
			if err != nil {
				t.Fatal(err)
			}
			_ = syscall.Kill(n, syscall.SIGSTOP)
			t.Cleanup(func() { _ = syscall.Kill(n, syscall.SIGCONT) })
			time.Sleep(time.Second) // the loops have met it
		}},
		{"a database that holds a table", func(t *testing.T, dsn, _, _ string, _ chan net.Conn) {
			s, err := store.Open(dsn)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { s.Close() })
			one, err := s.DB(context.Background()).DB()
			if err != nil {
				t.Fatal(err)
			}
			c, err := one.Conn(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			if _, err := c.ExecContext(context.Background(),
				"LOCK TABLES agenda WRITE, deliveries WRITE, workers WRITE"); err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { c.Close() })
			time.Sleep(time.Second)
		}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			dir, err := os.MkdirTemp("", "nivot-stop")
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { os.RemoveAll(dir) })
			ctx := context.Background()
			db, err := database.Start(ctx, database.Options{Dir: dir, Bound: true})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(db.Stop)
			dsn, err := db.DSN(ctx, "nivot")
			if err != nil {
				t.Fatal(err)
			}
			s, err := store.Open(dsn)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { s.Close() })
			if err := s.Migrate(ctx); err != nil {
				t.Fatal(err)
			}
			now := at("2027-03-15T08:59:00Z")
			port, met := silent(t)
			manyLoans(t, New(s, func() time.Time { return now }, Options{}), 20, "2027-03-22", port)

			cmd := exec.Command(bin, "serve", "-practice-clock", "2027-03-15T09:00:00Z")
			cmd.Env = append(os.Environ(), "NIVOT_DSN="+dsn, "NIVOT_ADDR=127.0.0.1:0")
			out, err := cmd.StdoutPipe()
			if err != nil {
				t.Fatal(err)
			}
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = cmd.Process.Kill() })
			var addr string
			for lines := bufio.NewScanner(out); addr == "" && lines.Scan(); {
				_, addr, _ = strings.Cut(lines.Text(), "Nivot is at http://")
			}
			if addr == "" {
				t.Fatal("the server does not say where it is")
			}
			test.hang(t, dsn, addr, filepath.Join(dir, "pid"), met)

			ended := make(chan error, 1)
			_ = cmd.Process.Signal(syscall.SIGTERM)
			go func() { ended <- cmd.Wait() }()
			select {
			case err := <-ended:
				if err != nil {
					t.Errorf("it ended with %v, want 0", err)
				}
			case <-time.After(time.Minute): // 20 s on a machine that has nothing else to do
				t.Error("it still runs a minute after SIGTERM")
			}
		})
	}
}

// A process that is started while its database is away waits for it.
func TestWaitsForItsDatabase(t *testing.T) {
	t.Parallel() // it waits most of the time
	bin := filepath.Join(t.TempDir(), "nivot")
	if out, err := exec.Command("go", "build", "-o", bin, "nivot/cmd/nivot").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	p := dbtest.NewProxy(t, dbtest.Migrated(t))
	p.Stop()
	cmd := exec.Command(bin, "serve", "-practice-clock", "2027-03-15T09:00:00Z")
	cmd.Env = append(os.Environ(), "NIVOT_DSN="+p.DSN, "NIVOT_ADDR=127.0.0.1:0")
	read, write, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr = write, write
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	write.Close()
	defer func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	}()
	said := bufio.NewScanner(read)
	for _, want := range []string{"waiting for it", "Nivot is at"} {
		for found := false; !found; {
			if !said.Scan() {
				t.Fatalf("it ended without having said %q", want)
			}
			found = strings.Contains(said.Text(), want)
		}
		p.Start()
	}
}
