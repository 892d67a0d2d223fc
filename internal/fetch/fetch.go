// Package fetch gets files that somebody else keeps: from the watched folder,
// or by http and https. It leaves the own network alone unless told otherwise.
package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
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

// Check tells whether a place could be fetched, without fetching it: an http or
// https address, or the path of a file in the watched folder.
func Check(place string, o Options) error {
	if isAddress(place) {
		u, err := url.Parse(place)
		switch {
		case err != nil || u.Hostname() == "":
			return fmt.Errorf("%q is not an address; write it as https://host/file.csv", place)
		case u.User != nil:
			return errors.New("an address here holds no password; it would be shown to all who see the sheet")
		}
		if ip, err := netip.ParseAddr(u.Hostname()); err == nil && !o.Private && inside(ip) {
			return errInside
		}
		return nil
	}
	if o.Folder == "" {
		return errors.New("no folder is watched here; give an http or https address, or have the administrator set NIVOT_SOURCES")
	}
	if place == "" || !fs.ValidPath(place) {
		return fmt.Errorf("%q is not the path of a file in the watched folder; write it as folder/file.csv", place)
	}
	return nil
}

func isAddress(place string) bool {
	return strings.HasPrefix(place, "http://") || strings.HasPrefix(place, "https://")
}

var errInside = errors.New("the address is inside the own network; the administrator may allow such addresses")

// inside tells whether an address belongs to this machine or its network
// (RFC 6890), or to none at all.
func inside(ip netip.Addr) bool {
	ip = ip.Unmap()
	return ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast() || ip.IsLinkLocalMulticast() || ip.IsMulticast() ||
		ip.IsUnspecified() || shared.Contains(ip) || !ip.IsValid()
}

// shared is the address space of carriers (RFC 6598), where clouds keep what
// is theirs.
var shared = netip.MustParsePrefix("100.64.0.0/10")

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
	f, err := root.Open(place)
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
		return nil, fmt.Errorf("it could not be read to its end: %w", err)
	case len(b) > limit:
		return nil, fmt.Errorf("the file is larger than %d MB", limit>>20)
	case len(b) == 0:
		return nil, errors.New("the file is empty")
	}
	return b, nil
}

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
		Transport: &http.Transport{DialContext: dialer.DialContext, DisableKeepAlives: true, TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 30 * time.Second},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > redirects {
				return errors.New("it is passed on too often")
			}
			if via[0].URL.Scheme == "https" && r.URL.Scheme != "https" {
				return errors.New("it is passed on to an address without https")
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
		return nil, fmt.Errorf("%s does not answer: %w", req.URL.Host, err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answers %s", req.URL.Host, res.Status)
	}
	return read(res.Body, o.Limit)
}
