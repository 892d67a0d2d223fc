package fetch

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

func TestFolder(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(t.TempDir(), "secret.csv")
	for path, body := range map[string]string{filepath.Join(dir, "cases.csv"): "a,b\n1,2\n",
		filepath.Join(dir, "empty.csv"): "", outside: "secret"} {
		if err := os.WriteFile(path, []byte(body), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(outside, filepath.Join(dir, "link.csv")); err != nil {
		t.Fatal(err)
	}
	o := Options{Folder: dir, Limit: 100}
	if b, err := Get(context.Background(), "cases.csv", o); err != nil || string(b) != "a,b\n1,2\n" {
		t.Errorf("%q %v", b, err)
	}
	for place, want := range map[string]string{
		"../secret.csv": "not the path", "/etc/passwd": "not the path", "": "not the path", "link.csv": "cannot be opened",
		"none.csv": "no file",
		".":        "not a file", "empty.csv": "is empty", "http://": "not an address",
		"http://tom:x@museum.example/a.csv": "no password",
	} {
		if _, err := Get(context.Background(), place, o); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", place, err, want)
		}
	}
	o.Limit = 3
	if _, err := Get(context.Background(), "cases.csv", o); err == nil || !strings.Contains(err.Error(), "larger than") {
		t.Errorf("%v", err)
	}
	if err := Check("cases.csv", Options{}); err == nil {
		t.Error("a path where no folder is watched")
	}
}

// What is no regular file is refused at once: nobody waits for the other end of a pipe.
func TestPipe(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mkfifo(filepath.Join(dir, "pipe.csv"), 0o600); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() {
		_, err := Get(context.Background(), "pipe.csv", Options{Folder: dir, Limit: 100})
		done <- err
	}()
	select {
	case err := <-done:
		if err == nil || !strings.Contains(err.Error(), "not a file") {
			t.Error(err)
		}
	case <-time.After(2 * time.Minute):
		t.Fatal("it waits for somebody to write into the pipe")
	}
}

// What could not be fetched is said without addresses of the network.
func TestTroubleTellsNoAddresses(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	l.Close()
	_, err = Get(context.Background(), "http://localhost:"+port+"/x.csv", Options{Private: true, Limit: 100})
	if err == nil || strings.Contains(err.Error(), "127.0.0.1") || strings.Contains(err.Error(), "::1") ||
		!strings.Contains(err.Error(), "does not answer") {
		t.Error(err)
	}
}

// An address inside is refused, whether written out, as a name, or reached by
// being passed on.
func TestInside(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/round":
			http.Redirect(w, r, "/round", http.StatusFound)
		case "/gone":
			http.NotFound(w, r)
		default:
			_, _ = w.Write([]byte("a\n1\n"))
		}
	}))
	defer srv.Close()
	named := strings.Replace(srv.URL, "127.0.0.1", "localhost", 1)
	for _, place := range []string{srv.URL, named, "http://[::1]/", "http://169.254.169.254/latest",
		"http://[::ffff:10.0.0.1]/"} {
		if _, err := Get(context.Background(), place, Options{Limit: 100}); err == nil ||
			!strings.Contains(err.Error(), "inside the own network") {
			t.Errorf("%s: %v", place, err)
		}
	}
	allowed := Options{Private: true, Limit: 100}
	if b, err := Get(context.Background(), srv.URL+"/x.csv", allowed); err != nil || string(b) != "a\n1\n" {
		t.Errorf("%q %v", b, err)
	}
	for path, want := range map[string]string{"/round": "too often", "/gone": "404"} {
		if _, err := Get(context.Background(), srv.URL+path, allowed); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
	for ip, want := range map[string]bool{"10.1.2.3": true, "172.16.0.1": true, "192.168.1.1": true, "127.9.9.9": true,
		"fe80::1": true, "fd00::1": true,
		"0.0.0.0": true, "224.0.0.1": true, "100.64.0.1": true, "::ffff:127.0.0.1": true, "93.184.216.34": false,
		"2606:2800::1": false,
		"0.1.2.3":      true, "192.0.0.8": true, "198.18.0.1": true, "198.19.255.255": true, "198.20.0.1": false,
		"240.0.0.1": true, "255.255.255.255": true,
		"192.0.2.1": true, "64:ff9b::a00:1": true, "64:ff9b:1::1": true, "100::1": true, "2002:a00:1::": true,
		"2001::1": true, "2001:db8::1": true,
		"fec0::1": true, "::7f00:1": true, "::": true, "2a00:1450::1": false, "8.8.8.8": false} {
		if got := inside(netip.MustParseAddr(ip)); got != want {
			t.Errorf("%s inside: %v", ip, got)
		}
	}
}
