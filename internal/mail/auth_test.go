package mail

import (
	"bufio"
	"context"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
)

const authUser, authPassword = "desk@marrowby.example", "weathercock-1790"

// authPeer offers ways of signing in, and checks those that it knows; it gives how somebody
// signed in.
func authPeer(t *testing.T, offered string) (Server, <-chan string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	by := make(chan string, 1)
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		in := bufio.NewReader(conn)
		say := func(format string, args ...any) { fmt.Fprintf(conn, format+"\r\n", args...) }
		hear := func() string {
			line, _ := in.ReadString('\n')
			return strings.TrimRight(line, "\r\n")
		}
		challenge := func(text string) string {
			say("334 %s", base64.StdEncoding.EncodeToString([]byte(text)))
			b, _ := base64.StdEncoding.DecodeString(hear())
			return string(b)
		}
		end := func(way string, ok bool) {
			if !ok {
				say("535 no")
				return
			}
			by <- way
			say("235 yes")
		}
		say("220 peer")
		for {
			line := hear()
			way, first, _ := strings.Cut(strings.TrimPrefix(line, "AUTH "), " ")
			switch {
			case line == "":
				return
			case strings.HasPrefix(line, "EHLO"):
				say("250-peer\r\n250-PIPELINING")
				if offered != "" {
					say("250-AUTH %s", offered)
				}
				say("250 8BITMIME")
			case strings.HasPrefix(line, "AUTH PLAIN"):
				b, _ := base64.StdEncoding.DecodeString(first)
				end(way, string(b) == "\x00"+authUser+"\x00"+authPassword)
			case strings.HasPrefix(line, "AUTH LOGIN"):
				name, password := challenge("Username:"), challenge("Password:")
				end(way, name == authUser && password == authPassword)
			case strings.HasPrefix(line, "AUTH SCRAM-SHA-256"):
				end(way, scram(challenge))
			default:
				say("250 yes")
			}
		}
	}()
	return Server{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, Security: Plain, Username: authUser,
		Password: authPassword}, by
}

// scram is the server's side of RFC 5802 and RFC 7677.
func scram(challenge func(string) string) bool {
	clientFirst := challenge("")
	bare := strings.TrimPrefix(clientFirst, "n,,")
	_, nonce, _ := strings.Cut(bare, ",r=")
	salt := []byte("a salt of the museum")
	serverFirst := fmt.Sprintf("r=%s%s,s=%s,i=4096", nonce, "more", base64.StdEncoding.EncodeToString(salt))
	clientFinal := challenge(serverFirst)
	without, proof, _ := strings.Cut(clientFinal, ",p=")
	salted, err := pbkdf2.Key(sha256.New, authPassword, salt, 4096, sha256.Size)
	if err != nil {
		return false
	}
	sum := func(key []byte, text string) []byte {
		m := hmac.New(sha256.New, key)
		_, _ = io.WriteString(m, text)
		return m.Sum(nil)
	}
	clientKey := sum(salted, "Client Key")
	stored := sha256.Sum256(clientKey)
	message := bare + "," + serverFirst + "," + without
	signature := sum(stored[:], message)
	want := make([]byte, len(clientKey))
	for i := range want {
		want[i] = clientKey[i] ^ signature[i]
	}
	if proof != base64.StdEncoding.EncodeToString(want) {
		return false
	}
	challenge("v=" + base64.StdEncoding.EncodeToString(sum(sum(salted, "Server Key"), message)))
	return true
}

// A sender signs in by what its server offers; ways that do not show the password come first.
func TestSignIn(t *testing.T) {
	for _, x := range []struct{ offered, way, fault string }{
		{"PLAIN LOGIN", "PLAIN", ""},
		{"LOGIN", "LOGIN", ""},
		{"login plain", "PLAIN", ""},
		{"SCRAM-SHA-256", "SCRAM-SHA-256", ""},
		{"PLAIN LOGIN SCRAM-SHA-1-PLUS SCRAM-SHA-256", "SCRAM-SHA-256", ""},
		{"XOAUTH2", "", "no way of signing in"},
		{"", "", "no way of signing in"},
	} {
		t.Run(x.offered, func(t *testing.T) {
			s, by := authPeer(t, x.offered)
			c, err := Dial(context.Background(), s, "localhost")
			if x.fault != "" {
				if err == nil || !strings.Contains(err.Error(), x.fault) {
					t.Fatalf("got %v, want %q", err, x.fault)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			c.Drop()
			if got := <-by; got != x.way {
				t.Errorf("got %s, want %s", got, x.way)
			}
		})
	}
	s, _ := authPeer(t, "SCRAM-SHA-256")
	s.Password = "another"
	if _, err := Dial(context.Background(), s, "localhost"); err == nil ||
		!strings.Contains(err.Error(), "did not accept the user name or the password; it said: 535") {
		t.Errorf("a wrong password: %v", err)
	}
}
