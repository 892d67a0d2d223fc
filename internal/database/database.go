// Package database runs a private MariaDB server on loopback, for the demo,
// the tests and the benchmark: its own data directory and socket, never the
// standard port, started and stopped by the program.
package database

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver that checks the server answers
)

// Options say where a server lives.
type Options struct {
	Dir  string // its folder: data directory, socket, log; made if missing
	Port int    // 0 for the socket alone
	// Durable makes every commit reach the disk. Tests of the machine's
	// behaviour after a loss of power need it; a kill of processes does not.
	Durable bool
	// Bound ends the server with the process that starts it, however that ends: tests and benchmarks leave none
	// behind.
	Bound  bool
	Buffer string // of the tables in memory, as MariaDB says it ("2G"); "" for 256M
}

// Server is a running MariaDB.
type Server struct {
	opts Options
	cmd  *exec.Cmd
	done chan struct{}

	extra []string // flags
	path  string   // a folder of programs that the server is to find
}

// binaries looks a program up on the path and where Debian puts servers.
func binary(name string) (string, error) {
	if p, err := exec.LookPath(name); err == nil {
		return p, nil
	}
	for _, dir := range []string{"/usr/sbin", "/usr/bin", "/usr/local/sbin"} {
		p := filepath.Join(dir, name)
		if _, err := os.Stat(p); err == nil {
			return p, nil
		}
	}
	return "",
		fmt.Errorf("%s is not installed; run scripts/setup.sh, or apt-get install mariadb-server-core mariadb-client-core",
			name)
}

// Start starts a server in opts.Dir, setting the folder up first if it is
// new. A server that is still running there from an earlier start is stopped
// first, so that a kill -9 of the program leaves nothing in the way.
func Start(ctx context.Context, opts Options) (*Server, error) {
	dir, err := filepath.Abs(opts.Dir)
	if err != nil {
		return nil, err
	}
	opts.Dir = dir
	if len(filepath.Join(dir, "sock")) > 100 {
		return nil, fmt.Errorf("the path %s is too long for a socket; set NIVOT_VAR to a shorter one", dir)
	}
	if opts.Port == 3306 {
		return nil, errors.New("port 3306 is left to other servers; choose another with NIVOT_DB_PORT")
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := stopLeftover(dir); err != nil {
		return nil, err
	}
	if opts.Port != 0 {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", opts.Port))
		if err != nil {
			return nil, fmt.Errorf("port %d for the database is in use; choose another with NIVOT_DB_PORT", opts.Port)
		}
		l.Close()
	}
	if _, err := os.Stat(filepath.Join(dir, "data", "mysql")); err != nil {
		if err := initialise(ctx, dir); err != nil {
			return nil, err
		}
	}
	s := &Server{opts: opts, done: make(chan struct{})}
	return s, s.start(ctx)
}

// asRoot gives the flag that MariaDB wants where it runs as root.
func asRoot() []string {
	if u, err := user.Current(); err == nil && u.Uid == "0" {
		return []string{"--user=root"}
	}
	return nil
}

// temporary gives the flag that has a server keep its temporary tables in a
// folder of its own: one that starts clears all of them from there, those of
// other servers too.
func temporary(dir string) (string, error) {
	dir = filepath.Join(dir, "tmp")
	return "--tmpdir=" + dir, os.MkdirAll(dir, 0o700)
}

func initialise(ctx context.Context, dir string) error {
	bin, err := binary("mariadb-install-db")
	if err != nil {
		return err
	}
	temporary, err := temporary(dir)
	if err != nil {
		return err
	}
	// Set up beside, then moved: a kill half way leaves no half data directory.
	tmp := filepath.Join(dir, "data.new")
	if err := os.RemoveAll(tmp); err != nil {
		return err
	}
	args := append([]string{"--no-defaults", "--datadir=" + tmp, temporary,
		"--auth-root-authentication-method=normal", "--skip-test-db"}, asRoot()...)
	// root has no password and comes in by the socket alone, which lies in a
	// folder of its owner's: its accounts for TCP are dropped.
	secure := filepath.Join(dir, "secure.sql")
	if err := os.WriteFile(secure, []byte("DELETE FROM mysql.global_priv WHERE Host <> 'localhost' OR User = '';\n"),
		0o600); err != nil {
		return err
	}
	defer os.Remove(secure)
	args = append(args, "--extra-file="+secure)
	if out, err := exec.CommandContext(ctx, bin, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("setting up MariaDB in %s: %w\n%s", dir, err, out)
	}
	os.RemoveAll(filepath.Join(dir, "data"))
	return os.Rename(tmp, filepath.Join(dir, "data"))
}

func (s *Server) start(ctx context.Context) error {
	bin, err := binary("mariadbd")
	if err != nil {
		return err
	}
	dir := s.opts.Dir
	temporary, err := temporary(dir)
	if err != nil {
		return err
	}
	args := append([]string{"--no-defaults", "--datadir=" + filepath.Join(dir, "data"), temporary,
		"--socket=" + s.Socket(), "--pid-file=" + filepath.Join(dir, "pid"), "--bind-address=127.0.0.1",
		"--character-set-server=utf8mb4",
		"--collation-server=utf8mb4_unicode_ci", "--default-time-zone=+00:00", "--skip-name-resolve",
		"--innodb-buffer-pool-size=" + cmp.Or(s.opts.Buffer, "256M"), "--innodb-log-file-size=256M", "--max-connections=400",
		"--max-allowed-packet=256M", "--local-infile=1", "--log-error=" + filepath.Join(dir, "error.log")}, asRoot()...)
	if s.opts.Port != 0 {
		args = append(args, "--port="+strconv.Itoa(s.opts.Port))
	} else {
		args = append(args, "--skip-networking")
	}
	if !s.opts.Durable {
		// Commits survive the death of any process, as the tests demand.
		args = append(args, "--innodb-flush-log-at-trx-commit=2", "--sync-binlog=0")
	}
	s.cmd = exec.Command(bin, append(args, s.extra...)...)
	if s.path != "" {
		s.cmd.Env = append(os.Environ(), "PATH="+s.path+":"+os.Getenv("PATH"))
	}
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // a Ctrl-C is for us; we stop it in order
	if s.opts.Bound {
		s.cmd.SysProcAttr.Pdeathsig = syscall.SIGKILL
	}
	started := make(chan error)
	go func() {
		// The signal comes when the thread that has started the server ends (prctl(2), PR_SET_PDEATHSIG).
		runtime.LockOSThread()
		err := s.cmd.Start()
		started <- err
		if err == nil {
			_ = s.cmd.Wait()
			close(s.done)
		}
	}()
	if err := <-started; err != nil {
		return err
	}
	return s.waitReady(ctx)
}

func (s *Server) waitReady(ctx context.Context) error {
	db, err := sql.Open("mysql", s.dsn(""))
	if err != nil {
		return err
	}
	defer db.Close()
	deadline := time.Now().Add(60 * time.Second)
	for time.Now().Before(deadline) {
		select {
		case <-s.done:
			log, _ := os.ReadFile(filepath.Join(s.opts.Dir, "error.log"))
			return fmt.Errorf("MariaDB did not start:\n%s", tail(string(log), 15))
		case <-ctx.Done():
			s.Stop()
			return ctx.Err()
		case <-time.After(30 * time.Millisecond):
		}
		if db.PingContext(ctx) == nil {
			return nil
		}
	}
	s.Stop()
	return errors.New("MariaDB did not answer within a minute")
}

func tail(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

// Pid is the id of the server's process.
func (s *Server) Pid() int { return s.cmd.Process.Pid }

// Socket is the path of the server's socket.
func (s *Server) Socket() string { return filepath.Join(s.opts.Dir, "sock") }

func (s *Server) dsn(name string) string {
	return fmt.Sprintf("root@unix(%s)/%s", s.Socket(), name)
}

// DSN gives the data source name of a database on the server, made if it is
// missing.
func (s *Server) DSN(ctx context.Context, name string) (string, error) {
	db, err := sql.Open("mysql", s.dsn(""))
	if err != nil {
		return "", err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS `"+name+
		"` CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci"); err != nil {
		return "", err
	}
	return s.dsn(name), nil
}

// Stop ends the server in order and waits for it.
func (s *Server) Stop() {
	if s.cmd == nil || s.cmd.Process == nil {
		return
	}
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.done:
	case <-time.After(30 * time.Second):
		s.Kill()
	}
}

// Kill ends the server at once, as a crash would.
func (s *Server) Kill() {
	_ = s.cmd.Process.Kill()
	<-s.done
}

// stopLeftover stops a server that an earlier, killed program left running in
// dir. The pid is trusted only if that process runs on this data directory.
func stopLeftover(dir string) error {
	b, err := os.ReadFile(filepath.Join(dir, "pid"))
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil || !runsIn(pid, dir) {
		return nil
	}
	_ = syscall.Kill(pid, syscall.SIGTERM)
	for i := 0; i < 1000; i++ {
		if !runsIn(pid, dir) {
			return nil
		}
		time.Sleep(30 * time.Millisecond)
	}
	return fmt.Errorf("the MariaDB server %d of an earlier start does not end; stop it and try again", pid)
}

func runsIn(pid int, dir string) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && strings.Contains(string(b), "--datadir="+filepath.Join(dir, "data"))
}
