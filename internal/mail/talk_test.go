package mail

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/reason"
)

// answering is a mail server that answers each command by its first word, and the n-th RCPT by "RCPT n"; what it
// has no answer for it takes. After a 421 it hangs up.
func answering(t *testing.T, answers map[string]string) Server {
	t.Helper()
	return played(t, func(conn net.Conn, in *bufio.Reader) {
		rcpt := 0
		for {
			line, err := in.ReadString('\n')
			if err != nil {
				return
			}
			verb := strings.ToUpper(line[:4])
			if verb == "RCPT" {
				rcpt++
				verb = fmt.Sprintf("RCPT %d", rcpt)
			}
			answer, ok := answers[verb]
			switch {
			case ok:
			case verb == "DATA":
				answer = "354 go on"
			default:
				answer = "250 yes"
			}
			_, _ = io.WriteString(conn, answer+"\r\n")
			if strings.HasPrefix(answer, "421") {
				return
			}
		}
	})
}

// A 421 in the middle of the envelope keeps what the server said and at which step, whether commands are sent
// one by one or together (RFC 5321, section 3.8; RFC 2920).
func TestClosingInTheEnvelope(t *testing.T) {
	const said = "421 4.3.2 closing, come back later"
	for _, pipelining := range []bool{false, true} {
		for _, c := range []struct {
			at   string
			step Step
		}{{"MAIL", NamingSender}, {"RCPT 1", NamingRecipient}, {"RCPT 2", NamingRecipient}, {"DATA", HandingOver}} {
			t.Run(fmt.Sprintf("pipelining %v, at %s", pipelining, c.at), func(t *testing.T) {
				answers := map[string]string{c.at: said}
				if pipelining {
					answers["EHLO"] = "250-peer\r\n250 PIPELINING"
				}
				client, err := Dial(context.Background(), answering(t, answers), "localhost")
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(client.Drop)
				out, ready, err := client.Begin("loans@marrowby.example", []string{"ada@fenwick-hall.example",
					"ben@fenwick-hall.example"}, 0, func(rs []Reply) bool { return true })
				if err != nil || ready {
					t.Fatalf("ready %v, %v", ready, err)
				}
				if out.Refused.String() != said || out.Step != c.step || !out.HungUp || len(out.Recipients) > 0 {
					t.Errorf("refused %q at step %d, hung up %v, %d recipients", out.Refused.String(), out.Step, out.HungUp,
						len(out.Recipients))
				}
			})
		}
	}
}

// A port that begins with TLS is told from one that does not answer, where STARTTLS or nothing was chosen; and
// one that does not begin with TLS from a certificate that is wrong, where TLS was.
func TestPortsOfTheOtherKind(t *testing.T) {
	secret, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &secret.PublicKey, secret)
	if err != nil {
		t.Fatal(err)
	}
	protected, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{{
		Certificate: [][]byte{der}, PrivateKey: secret}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { protected.Close() })
	go func() {
		for {
			conn, err := protected.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_, _ = io.WriteString(conn, "220 peer\r\n")
				_, _ = io.Copy(io.Discard, conn)
			}()
		}
	}()
	port := protected.Addr().(*net.TCPAddr).Port
	for _, c := range []struct {
		name     string
		server   Server
		code     reason.Code
		security Security
	}{
		{"STARTTLS for a port that begins with TLS", Server{Host: "127.0.0.1", Port: port}, reason.BeginsWithTLS, StartTLS},
		{"nothing for a port that begins with TLS", Server{Host: "127.0.0.1", Port: port}, reason.BeginsWithTLS, Plain},
		{"TLS with a certificate that nobody has signed", Server{Host: "127.0.0.1", Port: port}, reason.BadCertificate, TLS},
		{"TLS for a port that does not begin with it", answering(t, nil), reason.NotTLS, TLS},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel() // half of the time is waited for a greeting
			ctx, cancel := context.WithTimeout(context.Background(), 12*time.Second)
			defer cancel()
			c.server.Security = c.security
			client, err := Dial(ctx, c.server, "localhost")
			if err == nil {
				client.Drop()
				t.Fatal("it was taken")
			}
			var fault *Fault
			if !errors.As(err, &fault) || fault.Code != c.code {
				t.Errorf("got %v, want %s", err, c.code)
			}
		})
	}
}
