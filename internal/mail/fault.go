package mail

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"regexp"
	"strconv"
	"strings"
	"syscall"

	"nivot/internal/core/reason"
)

// Step is how far a talk with a mail server had come.
type Step uint8

// The steps of a talk, in their order.
const (
	Connecting      Step = iota // finding the server, connecting, being greeted
	Protecting                  // TLS, at once or by STARTTLS
	SigningIn                   // AUTH
	NamingSender                // MAIL
	NamingRecipient             // RCPT
	HandingOver                 // DATA, the message and the final dot
)

// Fault is what kept a talk with a mail server from succeeding.
type Fault struct {
	Step  Step
	Code  reason.Code // what it is
	Place string      // the server's name and port
	Reply Reply       // what the server said; the zero Reply where it said nothing
	Err   error       // what else is known
}

// Error says the fault in words, with what the server said.
func (f *Fault) Error() string {
	s := f.Reason().Words()
	if f.Reply.Code != 0 {
		s += "; it said: " + f.Reply.String()
	}
	return s
}

// Said returns what the server said; "" where it said nothing.
func (f *Fault) Said() string {
	if f.Reply.Code == 0 {
		return ""
	}
	return f.Reply.String()
}

// Unwrap returns what else is known.
func (f *Fault) Unwrap() error { return f.Err }

// Reason returns the fault as a reason that an email can bear.
func (f *Fault) Reason() reason.Reason {
	r := reason.Reason{Code: f.Code, Value: f.Place}
	if f.Code == reason.Unreachable && f.Err != nil {
		r.Was = withoutAddresses(f.Err)
	}
	return r
}

// OfSender reports whether the fault is the sender's or its server's, so that every other email of the
// sender would meet it too: such a fault is no try of any email.
func (f *Fault) OfSender() bool { return f.Code.OfSender() }

// withoutAddresses is the innermost error, which names no address of a name server or of this machine.
func withoutAddresses(err error) string {
	var dns *net.DNSError
	if errors.As(err, &dns) {
		return dns.Err
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Err != nil {
		err = op.Err
	}
	var sys syscall.Errno
	if errors.As(err, &sys) {
		return sys.Error()
	}
	return err.Error()
}

// dialFault says what an error is that a connection met before anybody was greeted or while it was being
// protected.
func dialFault(step Step, place string, err error) *Fault {
	var known *Fault
	if errors.As(err, &known) {
		return known
	}
	f := &Fault{Step: step, Code: reason.Unreachable, Place: place, Err: err}
	var reply *ReplyError
	var dns *net.DNSError
	var timeout net.Error
	var verification *tls.CertificateVerificationError
	var authority x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &reply):
		f.Reply = reply.Reply
		f.Code = replyCode(step, reply.Reply)
	case errors.As(err, &dns) && dns.IsNotFound:
		f.Code, f.Place = reason.NoSuchHost, hostOf(place)
	case errors.As(err, &verification), errors.As(err, &authority), errors.As(err, &host), errors.As(err, &invalid):
		f.Code = reason.BadCertificate
	case errors.As(err, &record):
		f.Code = reason.NotTLS
	case errors.Is(err, syscall.ECONNREFUSED):
		f.Code = reason.NothingListens
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		f.Code = reason.NoAnswer
	}
	return f
}

func hostOf(place string) string {
	if host, _, err := net.SplitHostPort(place); err == nil {
		return host
	}
	return place
}

// enhanced is the enhanced status code with which a reply's text may begin (RFC 3463, 2034).
var enhanced = regexp.MustCompile(`^([245])\.(\d{1,3})\.(\d{1,3})\b`)

// Status returns the reply's enhanced status as class, subject and detail; zeros where it has none.
func (r Reply) Status() (class, subject, detail int) {
	m := enhanced.FindStringSubmatch(r.Text)
	if m == nil {
		return 0, 0, 0
	}
	class, _ = strconv.Atoi(m[1])
	subject, _ = strconv.Atoi(m[2])
	detail, _ = strconv.Atoi(m[3])
	return class, subject, detail
}

var (
	tooMany  = regexp.MustCompile(`(?i)too many|concurren|connections? (limit|rate)|(limit|exceed).*connection`)
	wantAuth = regexp.MustCompile(`(?i)authenticat|auth required|no auth|sign ?in|log ?in|relay`)
	tooLarge = regexp.MustCompile(`(?i)size|too (large|big)`)
	full     = regexp.MustCompile(`(?i)quota|mailbox.*full|over ?quota|storage`)
)

// replyCode says what a refusal is, by how far the talk had come, the enhanced status (RFC 3463) and, where
// servers leave that out, the usual words.
func replyCode(step Step, r Reply) reason.Code {
	_, subject, detail := r.Status()
	switch step {
	case Connecting, Protecting:
		if r.Temporary() && (tooMany.MatchString(r.Text) || subject == 7 && detail == 28) {
			return reason.TooManyConnections
		}
		return reason.ServerBusy
	case SigningIn:
		if r.Temporary() {
			return reason.ServerBusy
		}
		return reason.SignInRefused
	}
	switch {
	case r.Code == 421 && tooMany.MatchString(r.Text):
		return reason.TooManyConnections
	case r.Code == 421:
		return reason.ServerBusy
	case subject == 3 && detail == 4, r.Code == 552 && tooLarge.MatchString(r.Text):
		return reason.MessageTooLarge
	case subject == 2 && detail == 2, r.Code == 552, r.Code == 452 && full.MatchString(r.Text):
		return reason.MailboxFull
	case r.Temporary():
		return reason.PutOff
	case r.Code == 530, step != HandingOver && subject == 7 && wantAuth.MatchString(r.Text):
		return reason.SignInWanted
	case step == NamingSender && (subject == 7 || r.Code == 550 || r.Code == 553 || r.Code == 554):
		return reason.SenderRefused
	case subject == 7:
		return reason.Policy
	case subject == 1:
		return reason.NoMailbox
	}
	return reason.Refused
}

// ReplyFault says what a refusal is that came at a step.
func ReplyFault(step Step, place string, r Reply) *Fault {
	return &Fault{Step: step, Code: replyCode(step, r), Place: place, Reply: r}
}

// Place is the server's name and port.
func (s Server) Place() string { return strings.TrimSpace(s.Host) + ", port " + strconv.Itoa(s.Port) }
