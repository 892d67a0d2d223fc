// Package fetch gets files that somebody else keeps: from the watched folder,
// or by http and https. It leaves the own network alone unless told otherwise.
package fetch

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"syscall"
	"time"
)

// Options say what may be fetched.
type Options struct {
	Folder  string // the watched folder; "" for none
	Private bool   // addresses inside the own network are allowed
	Limit   int    // bytes
}

// timeout bounds one fetch, redirects the hops on the way.
const (
	timeout   = 60 * time.Second
	redirects = 3
)

// Check reports whether a place could be fetched, without fetching it: an http or
// https address, or the path of a file in the watched folder.
func Check(place string, o Options) error {
	if isAddress(place) {
		u, err := url.Parse(place)
		switch {
		case err != nil || u.Hostname() == "":
			return fmt.Errorf("%q is not an address; write it as https://host/file.csv", Shown(place))
		case u.User != nil:
			return errors.New("an address here holds no password; it would be shown to all who see the sheet")
		}
		if ip, err := netip.ParseAddr(u.Hostname()); err == nil && !o.Private && inside(ip) {
			return errInside
		}
		return nil
	}
	if o.Folder == "" {
		return errors.New(
			"no folder is watched here; give an http or https address, or have the administrator set NIVOT_SOURCES")
	}
	if place == "" || !fs.ValidPath(place) {
		return fmt.Errorf("%q is not the path of a file in the watched folder; write it as folder/file.csv", place)
	}
	return nil
}

// Dots stand for what is not shown of a place.
const Dots = "••••"

// Shown returns a place as people may see it: an address without the values of its query, any of which may be a
// secret.
func Shown(place string) string {
	if !isAddress(place) {
		return place
	}
	place, _, _ = strings.Cut(place, "#")
	head, query, ok := strings.Cut(place, "?")
	if !ok || query == "" {
		return place
	}
	parts := strings.Split(query, "&")
	for i, p := range parts {
		name, v, named := strings.Cut(p, "=")
		switch {
		case !named:
			parts[i] = Dots
		case v != "":
			parts[i] = name + "=" + Dots
		}
	}
	return head + "?" + strings.Join(parts, "&")
}

func isAddress(place string) bool {
	return strings.HasPrefix(place, "http://") || strings.HasPrefix(place, "https://")
}

var errInside = errors.New("the address is inside the own network; the administrator may allow such addresses")

// inside reports whether an address belongs to this machine or its network, to a use of its
// own, or to none at all: whatever is not for everybody in IANA's registries of special-purpose
// addresses (RFC 6890), and what carries another address in it.
func inside(ip netip.Addr) bool {
	ip = ip.Unmap().WithZone("")
	if !ip.IsValid() {
		return true
	}
	if ip.Is6() && !unicast6.Contains(ip) {
		return true
	}
	for _, p := range special {
		if p.Contains(ip) {
			return true
		}
	}
	return false
}

// unicast6 is what of IPv6 has been given out to everybody (RFC 4291 2.4).
var unicast6 = netip.MustParsePrefix("2000::/3")

var special = func() (out []netip.Prefix) {
	for _, p := range []string{
		"0.0.0.0/8",       // this network (RFC 791)
		"10.0.0.0/8",      // private (RFC 1918)
		"100.64.0.0/10",   // of carriers, where clouds keep what is theirs (RFC 6598)
		"127.0.0.0/8",     // loopback (RFC 1122)
		"169.254.0.0/16",  // link-local (RFC 3927)
		"172.16.0.0/12",   // private
		"192.0.0.0/24",    // protocol assignments (RFC 6890)
		"192.0.2.0/24",    // documentation (RFC 5737)
		"192.88.99.0/24",  // 6to4 relays (RFC 7526)
		"192.168.0.0/16",  // private
		"198.18.0.0/15",   // benchmarks (RFC 2544)
		"198.51.100.0/24", // documentation
		"203.0.113.0/24",  // documentation
		"224.0.0.0/4",     // multicast (RFC 5771)
		"240.0.0.0/4",     // reserved, and broadcast (RFC 1112, RFC 8190)
		"2001::/23",       // protocol assignments, with Teredo (RFC 2928, RFC 4380)
		"2001:db8::/32",   // documentation (RFC 3849)
		"2002::/16",       // 6to4, which carries an IPv4 address (RFC 3056)
		"3fff::/20",       // documentation (RFC 9637)
	} {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}()

// Get fetches a place whole.
func Get(ctx context.Context, place string, o Options) ([]byte, error) {
	if err := Check(place, o); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	if isAddress(place) {
		return overNetwork(ctx, place, o)
	}
	return fromFolder(place, o)
}

func fromFolder(place string, o Options) ([]byte, error) {
	root, err := os.OpenRoot(o.Folder)
	if err != nil {
		return nil, errors.New("the watched folder is not there")
	}
	defer root.Close()
	// A pipe is opened without waiting for its other end.
	f, err := root.OpenFile(place, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no file %s in the watched folder", place)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened", place)
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a file", place)
	}
	return read(f, o.Limit)
}

func read(r io.Reader, limit int) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, int64(limit)+1))
	switch {
	case err != nil:
		slog.Info("a source could not be read to its end", "error", err)
		return nil, errors.New("it could not be read to its end")
	case len(b) > limit:
		return nil, fmt.Errorf("the file is larger than %d MB", limit>>20)
	case len(b) == 0:
		return nil, errors.New("the file is empty")
	}
	return b, nil
}

// plainly says what kept a server from answering, without what only the network's own people
// are to know, such as the address behind a name.
func plainly(err error) string {
	var dns *net.DNSError
	var timeout net.Error
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &dns):
		return "is no name that leads anywhere"
	case errors.As(err, &unknown), errors.As(err, &host), errors.As(err, &invalid):
		return "shows a certificate that is not its own, not trusted or out of date"
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, context.DeadlineExceeded):
		return "does not answer in time"
	case errors.Is(err, errRound), errors.Is(err, errPlain):
		return "passes on: " + err.Error()
	}
	return "does not answer"
}

var (
	errRound = errors.New("it is passed on too often")
	errPlain = errors.New("it is passed on to an address without https")
)

func overNetwork(ctx context.Context, place string, o Options) ([]byte, error) {
	// Looked at when the connection is made, so that no name can be made to
	// lead inside between asking and connecting.
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		if !o.Private && inside(at.Addr()) {
			return errInside
		}
		return nil
	}}
	client := &http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, DisableKeepAlives: true,
			TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 30 * time.Second},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > redirects {
				return errRound
			}
			if via[0].URL.Scheme == "https" && r.URL.Scheme != "https" {
				return errPlain
			}
			return nil
		},
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, place, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "text/csv, application/vnd.openxmlformats-officedocument.spreadsheetml.sheet, */*;q=0.5")
	req.Header.Set("User-Agent", "Nivot")
	res, err := client.Do(req)
	if err != nil {
		var ue *url.Error
		if errors.Is(err, errInside) {
			return nil, errInside
		}
		if errors.As(err, &ue) {
			err = ue.Err
		}
		slog.Info("a source could not be fetched", "host", req.URL.Host, "error", err)
		return nil, fmt.Errorf("the server %s %s", req.URL.Host, plainly(err))
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the server %s answers %s", req.URL.Host, res.Status)
	}
	return read(res.Body, o.Limit)
}
