package weblist

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"time"
)

// mostRedirects is how often one request may be sent on.
const mostRedirects = 10

// redirect follows redirects, as the web has them, but never from https to http, and
// without telling where they came from: the address may hold a signature.
func redirect(req *http.Request, via []*http.Request) error {
	req.Header.Del("Referer")
	switch from := via[len(via)-1]; {
	case len(via) > mostRedirects:
		return errors.New("it is sent on again and again")
	case from.URL.Scheme == "https" && req.URL.Scheme != "https", req.URL.Scheme != "http" && req.URL.Scheme != "https":
		return fmt.Errorf("it is sent on to an address of the kind %q", req.URL.Scheme)
	}
	return nil
}

// hosts are those that a list names itself, and the proxy that may be asked in their
// stead.
func hosts(items []item, proxy string) map[string]bool {
	named := map[string]bool{}
	for _, name := range []string{proxy, os.Getenv("HTTP_PROXY"), os.Getenv("HTTPS_PROXY"), os.Getenv("http_proxy"),
		os.Getenv("https_proxy")} {
		if u, err := url.Parse(name); err == nil {
			named[u.Hostname()] = true
		}
	}
	for _, it := range items {
		named[it.address.Hostname()] = true
	}
	return named
}

// keptOut dials, but reaches no address inside this machine or its network for a host
// that the list does not name: a server out there does not choose what is fetched
// in here. It is the address that counts, so that a name does not help.
func keptOut(named map[string]bool, dial func(context.Context, string, string) (net.Conn,
	error)) func(context.Context, string, string) (net.Conn, error) {
	if dial == nil {
		dial = (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}).DialContext
	}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		host, _, splitErr := net.SplitHostPort(address)
		if err != nil || splitErr != nil || named[host] {
			return conn, err
		}
		if at, ok := conn.RemoteAddr().(*net.TCPAddr); ok && inside(at.IP) {
			conn.Close()
			return nil, fmt.Errorf("it is sent on to %s, inside this network, which the list does not name", at.IP)
		}
		return conn, nil
	}
}

func inside(ip net.IP) bool {
	return ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast() || ip.IsLinkLocalMulticast() ||
		ip.IsUnspecified()
}
