package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/engine"
	"nivot/internal/store"
)

// peerDSN names the database of a server that a test starts as a process of
// its own, to kill it.
const peerDSN = "NIVOT_API_PEER"

// runPeer serves until it is killed, and prints where.
func runPeer(dsn string) error {
	st, err := store.Open(dsn)
	if err != nil {
		return err
	}
	h, err := New(Options{Engine: engine.New(st, time.Now, engine.Options{}), Wall: time.Now,
		PublicURL: "http://127.0.0.1", Web: fstest.MapFS{"index.html": {}}})
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println("http://" + l.Addr().String())
	return http.Serve(l, h)
}

// A server that is killed in the middle of an import leaves the sheet as it
// was, and the job says so.
func TestKilledImport(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), peerDSN+"="+s.dsn)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill() }()
	address, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	here := s.srv.URL
	s.srv.URL = strings.TrimSpace(address)
	c := s.as(store.Coordinator)
	var file strings.Builder
	file.WriteString("Loan,Object\n")
	for i := range 120_000 {
		fmt.Fprintf(&file, "LN-%06d,Stick barometer no. %d\n", i, i)
	}
	status, text := s.send(c, "/sheets/"+sh.ID+"/import", "many.csv", []byte(file.String()), nil)
	if status != 202 {
		t.Fatal(status, text)
	}
	var job Job
	if err := json.Unmarshal([]byte(text), &job); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	for range 2000 {
		j, err := s.st.Job(ctx, job.Id)
		if err != nil {
			t.Fatal(err)
		}
		if j.State != store.JobRunning {
			t.Fatalf("it was over before it could be killed: %+v", j)
		}
		if j.Done > 0 {
			break
		}
		time.Sleep(2 * time.Millisecond)
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	s.srv.URL = here
	rows, err := s.st.CountRows(ctx, sh.ID)
	if err != nil || rows != 5 {
		t.Errorf("%d rows, %v", rows, err)
	}
	// The database gives up what the dead process had begun; another import works.
	status, text = s.send(s.as(store.Coordinator), "/sheets/"+sh.ID+"/import", "one.csv",
		[]byte("Loan,Object\nLN-000001,Hand bell\n"), nil)
	if status != 202 {
		t.Fatal(status, text)
	}
	if j := s.job(s.as(store.Coordinator), text); j.State != JobStateDone || j.Import.New != 1 {
		t.Errorf("%+v", j)
	}
	if all, err := s.st.CountAllRows(ctx, sh.ID); err != nil || all != 6 {
		t.Errorf("%d rows in all, %v", all, err)
	}
	if err := s.st.DB(ctx).Exec("UPDATE jobs SET seen_at = seen_at - INTERVAL 1 MINUTE WHERE id = ?",
		job.Id).Error; err != nil {
		t.Fatal(err)
	}
	if text := body(s.call(s.as(store.Reader), "GET", "/api/jobs/"+job.Id, "")); !strings.Contains(text,
		`"state":"failed"`) || !strings.Contains(text, "nothing was changed") {
		t.Error(text)
	}
}
