package database

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// boundDir says to the test's own program that it is the process which starts a server, and where.
const boundDir = "NIVOT_TEST_BOUND_DIR"

// A server that is bound to a process does not outlive it, however it ends.
func TestBound(t *testing.T) {
	if dir := os.Getenv(boundDir); dir != "" {
		s, err := Start(context.Background(), Options{Dir: dir, Bound: true})
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		fmt.Println("started", s.cmd.Process.Pid)
		select {}
	}
	cmd := exec.Command(os.Args[0], "-test.run", "^TestBound$")
	cmd.Env = append(os.Environ(), boundDir+"="+t.TempDir())
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	text, ok := strings.CutPrefix(strings.TrimSpace(line), "started ")
	pid, perr := strconv.Atoi(text)
	if err != nil || !ok || perr != nil {
		_ = cmd.Process.Kill()
		t.Fatal(line, err, perr)
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	for end := time.Now().Add(time.Minute); alive(pid); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			_ = syscall.Kill(pid, syscall.SIGKILL)
			t.Fatal("the server goes on")
		}
	}
}

// alive reports whether a process runs; one that has ended and that nobody has waited for does not.
func alive(pid int) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return syscall.Kill(pid, 0) == nil
	}
	_, state, _ := strings.Cut(string(b), ") ")
	return !strings.HasPrefix(state, "Z")
}
