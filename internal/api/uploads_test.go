package api

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"nivot/internal/exchange"
	"nivot/internal/store"
)

// sent makes a form with a file and values.
func sent(file string, values map[string]string) (data, typ string) {
	var b strings.Builder
	w := multipart.NewWriter(&b)
	for k, v := range values {
		_ = w.WriteField(k, v)
	}
	if file != "" {
		f, _ := w.CreateFormFile("file", "Spring loans.csv")
		_, _ = io.WriteString(f, file)
	}
	w.Close()
	return b.String(), w.FormDataContentType()
}

// sums gives the checksums of all tables of a site.
func (s *site) sums() map[string]string {
	s.t.Helper()
	var tables []string
	db := s.st.DB(context.Background())
	if err := db.Raw("SHOW TABLES").Scan(&tables).Error; err != nil {
		s.t.Fatal(err)
	}
	out := map[string]string{}
	for _, name := range tables {
		var sum struct{ Checksum string }
		if err := db.Raw("CHECKSUM TABLE `" + name + "`").Scan(&sum).Error; err != nil {
			s.t.Fatal(err)
		}
		out[name] = sum.Checksum
	}
	return out
}

// What an operation's description does not list as a media type is refused, unread, whoever sends it.
func TestOtherMediaTypes(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	form, multi := sent("", map[string]string{"on": "false", "open": "false", "email": "administrator@marrowby.example"})
	upload, _ := sent("a,b\n1,2\n", map[string]string{"spec": "{}"})
	bodies := map[string]string{
		multi:                               form,
		"multipart/form-data":               upload,
		"multipart/mixed; boundary=x":       "--x\r\n\r\n{}\r\n--x--\r\n",
		"application/x-www-form-urlencoded": "on=false&open=false",
		"application/json":                  `{"on":false}`,
		"application/json-patch+json":       "[]",
		"text/json":                         `{"on":false}`,
		"text/plain":                        `{"on":false}`,
		"application/xml":                   "<on>false</on>",
		"application/octet-stream":          "\x00",
		"*/*":                               `{"on":false}`,
		"application/json, text/plain":      `{"on":false}`,
		"json":                              `{"on":false}`,
		"":                                  `{"on":false}`,
	}
	clients := []*http.Client{s.as("")}
	for _, r := range store.Roles {
		clients = append(clients, s.as(r))
	}
	before, calls := s.sums(), 0
	for path, item := range s.h.s.spec.Paths.Map() {
		for method, op := range item.Operations() {
			for typ, data := range bodies {
				plain, _, _ := strings.Cut(typ, ";")
				if slices.Contains(typesOf(op), plain) {
					continue
				}
				for i, c := range clients {
					known := i%2 == 0 // with a length, or without
					at := s.srv.URL + "/api" + param.ReplaceAllString(strings.ReplaceAll(path, "{sheet}", sh.ID), "1")
					req, err := http.NewRequest(method, at, strings.NewReader(data))
					if err != nil {
						t.Fatal(err)
					}
					if !known {
						req.ContentLength, req.Body = -1, io.NopCloser(strings.NewReader(data))
					}
					req.Header.Set("Sec-Fetch-Site", "same-origin")
					if typ != "" {
						req.Header.Set("Content-Type", typ)
					}
					res, err := c.Do(req)
					if err != nil {
						t.Fatal(method, at, typ, err)
					}
					if text := body(res); res.StatusCode != 415 {
						t.Errorf("%s %s with %q: %d %s", method, path, typ, res.StatusCode, text)
					}
					calls++
				}
			}
		}
	}
	if want := len(s.h.s.operations()) * len(clients) * 10; calls < want {
		t.Errorf("only %d calls, want %d", calls, want)
	}
	for name, sum := range s.sums() {
		if sum != before[name] {
			t.Errorf("table %s has changed", name)
		}
	}
}

// openUploads counts the files of uploads that the process has open, and those in their folder.
func openUploads(t *testing.T, u *uploads) int {
	t.Helper()
	in, err := os.ReadDir(u.folder)
	if err != nil {
		t.Fatal(err)
	}
	n := len(in)
	open, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		t.Fatal(err)
	}
	for _, fd := range open {
		if to, err := os.Readlink(filepath.Join("/proc/self/fd", fd.Name())); err == nil &&
			strings.HasPrefix(to, u.folder+"/") {
			n++
		}
	}
	return n
}

// until waits for what is to come true.
func until(t *testing.T, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); !is(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("still not: ", what)
		}
	}
}

func TestUploadsLeaveNothing(t *testing.T) {
	left := t.TempDir()
	if err := os.WriteFile(filepath.Join(left, "upload-1"), []byte("from a process that was killed"), 0o600); err != nil {
		t.Fatal(err)
	}
	theirs := filepath.Join(left, "loans.csv")
	if err := os.WriteFile(theirs, []byte("of somebody"), 0o600); err != nil {
		t.Fatal(err)
	}
	own, err := newUploads(left)
	if err != nil {
		t.Fatal(err)
	}
	if n := openUploads(t, own); n != 1 {
		t.Errorf("%d files are there, want the one that is no upload", n)
	}
	link := filepath.Join(t.TempDir(), "link")
	if err := os.Symlink(left, link); err != nil {
		t.Fatal(err)
	}
	if _, err := newUploads(link); err == nil {
		t.Error("a link to a folder is taken for it")
	}
	s := newSite(t, true)
	u, err := newUploads(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	s.h.s.uploads = u
	c := s.as(store.Coordinator)
	sh := s.loans()
	n := 0
	for path, item := range s.h.s.spec.Paths.Map() {
		for method, op := range item.Operations() {
			if !slices.Contains(typesOf(op), typeUpload) {
				continue
			}
			n++
			at := "/api" + strings.ReplaceAll(path, "{sheet}", sh.ID)
			for _, file := range []string{"", "a,b\n1,2\n", "PK\x03\x04", strings.Repeat("Loan,Return due\n", 4<<16)} {
				data, typ := sent(file, map[string]string{"spec": "{}"})
				for _, data := range []string{data, data[:len(data)-20], data[:len(data)/2], "", "--"} {
					req, _ := http.NewRequest(method, s.srv.URL+at, strings.NewReader(data))
					req.Header.Set("Sec-Fetch-Site", "same-origin")
					req.Header.Set("Content-Type", typ)
					res, err := c.Do(req)
					if err != nil {
						t.Fatal(err)
					}
					if text := body(res); res.StatusCode >= 500 {
						t.Errorf("%s: %d %s", path, res.StatusCode, text)
					}
				}
				cut(t, s, c, method, at, typ, data)
			}
			until(t, path+" keeps no file", func() bool { return openUploads(t, u) == 0 })
		}
	}
	if n < 7 {
		t.Errorf("only %d operations take uploads", n)
	}
	until(t, "nobody uploads", func() bool {
		u.turns.mu.Lock()
		defer u.turns.mu.Unlock()
		return len(u.turns.of) == 0 && u.bytes.TryAcquire(readAtOnce)
	})
}

// cut sends half of a form and closes the connection.
func cut(t *testing.T, s *site, c *http.Client, method, path, typ, data string) {
	t.Helper()
	conn, err := net.Dial("tcp", s.srv.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	req, _ := http.NewRequest(method, s.srv.URL+path, nil)
	cookies := ""
	for _, k := range c.Jar.Cookies(req.URL) {
		cookies += k.Name + "=" + k.Value
	}
	fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: x\r\nSec-Fetch-Site: same-origin\r\nCookie: %s\r\nContent-Type: %s\r\n"+
		"Content-Length: %d\r\n\r\n%s", method, path, cookies, typ, len(data), data[:len(data)/2])
}

func TestUploadsAreBounded(t *testing.T) {
	s := newSite(t, true)
	c := s.as(store.Coordinator)
	post := func(c *http.Client, path, data, typ string) (int, string) {
		t.Helper()
		req, _ := http.NewRequest("POST", s.srv.URL+"/api"+path, strings.NewReader(data))
		req.Header.Set("Sec-Fetch-Site", "same-origin")
		req.Header.Set("Content-Type", typ)
		res, err := c.Do(req)
		if err != nil {
			return 0, err.Error() // refused before all was sent
		}
		return res.StatusCode, body(res)
	}
	many := map[string]string{}
	for i := range maxParts + 1 {
		many[fmt.Sprint("v", i)] = "x"
	}
	for _, k := range []struct {
		name, path, file string
		values           map[string]string
		status           int
		says             string
	}{
		{"a large value", "/imports", "a\n1\n", map[string]string{"spec": strings.Repeat("x", maxValues+1)}, 413, "values"},
		{"many parts", "/imports", "", many, 422, "parts"},
		{"a large file", "/imports", strings.Repeat("Loan,Return due\n", exchange.MaxBytes/16+1), nil, 413, "larger than"},
		{"what is larger than its operation takes", "/files", strings.Repeat("x", 60<<20), nil, 413, "larger than"},
	} {
		t.Run(k.name, func(t *testing.T) {
			data, typ := sent(k.file, k.values)
			if status, text := post(c, k.path, data, typ); status != 0 && (status != k.status || !strings.Contains(text, k.says)) {
				t.Errorf("got %d %s", status, text)
			}
		})
	}
	t.Run("a person's", func(t *testing.T) {
		u := &s.h.s.uploads.turns
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		var leave []func()
		for range atOnceOfOne {
			l, err := u.enter(ctx, "Ines", atOnceOfOne, waitingOfOne)
			if err != nil {
				t.Fatal(err)
			}
			leave = append(leave, l)
		}
		if _, err := u.enter(ctx, "Hugh", atOnceOfOne, waitingOfOne); err != nil {
			t.Error("another person has to wait: ", err)
		}
		waits := make(chan error, waitingOfOne)
		for range waitingOfOne {
			go func() {
				_, err := u.enter(ctx, "Ines", atOnceOfOne, waitingOfOne)
				waits <- err
			}()
		}
		until(t, "all wait", func() bool {
			u.mu.Lock()
			defer u.mu.Unlock()
			return u.of["Ines"].count == atOnceOfOne+waitingOfOne
		})
		if _, err := u.enter(ctx, "Ines", atOnceOfOne, waitingOfOne); err == nil {
			t.Error("one more is let in")
		}
		leave[0]()
		if err := <-waits; err != nil {
			t.Error("none follows: ", err)
		}
		cancel()
		for range waitingOfOne - 1 {
			if err := <-waits; err == nil {
				t.Error("one has not waited")
			}
		}
	})
}

// FuzzUpload reads forms of any kind: whatever they hold, no file is left.
func FuzzUpload(f *testing.F) {
	data, typ := sent("a,b\n1,2\n", map[string]string{"spec": "{}"})
	_, params, _ := mime.ParseMediaType(typ)
	f.Add(params["boundary"], []byte(data))
	f.Add("x", []byte("--x\r\nContent-Disposition: form-data; name=file; filename=a\r\n\r\nPK\x03\x04\r\n--x--"))
	f.Fuzz(func(t *testing.T, boundary string, data []byte) {
		u, err := newUploads(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		one := &upload{u: u, most: maxUpload, held: 1}
		form, err := readForm(context.WithValue(context.Background(), uploadKey{}, one),
			multipart.NewReader(bytes.NewReader(data), boundary))
		if err == nil && len(form.file) > len(data) {
			t.Errorf("a file of %d bytes of %d", len(form.file), len(data))
		}
		if one.close(); openUploads(t, u) != 0 || !u.bytes.TryAcquire(readAtOnce) {
			t.Error("a file is left")
		}
	})
}
