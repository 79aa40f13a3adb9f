// Package web looks at a site as its visitors do: it asks a web server and says what comes.
package web

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"
)

// Access is how a web server is reached.
type Access struct {
	Agent    string            // what requests say that they come from
	Resolve  map[string]string // HOST:PORT to the address that is asked in its place
	CAs      []byte            // certificates (PEM) of authorities that are trusted beside the system's; empty: none
	User     string            // of basic authentication (RFC 7617); empty: none is sent
	Password string
	Timeout  time.Duration // of one request; 0: DefaultTimeout
	Parallel int           // how many requests are under way at most; 0: DefaultParallel
}

// What holds unless an Access says otherwise.
const (
	DefaultTimeout  = 30 * time.Second
	DefaultParallel = 8
)

// ErrCAs tells that there is no certificate in what should be those of authorities.
var ErrCAs = errors.New("it holds no certificate in PEM form")

// ParseResolve reads HOST:PORT:ADDRESS; the address may be one of IPv6, with or without brackets.
func ParseResolve(text string) (at, address string, err error) {
	host, rest, ok := strings.Cut(text, ":")
	port, address, more := strings.Cut(rest, ":")
	address = strings.TrimSuffix(strings.TrimPrefix(address, "["), "]")
	if !ok || !more || host == "" || net.ParseIP(address) == nil {
		return "", "", fmt.Errorf("%q is not HOST:PORT:ADDRESS", text)
	}
	if _, err := net.LookupPort("tcp", port); err != nil || port == "" {
		return "", "", fmt.Errorf("%q is not the number of a port", port)
	}
	return net.JoinHostPort(host, port), net.JoinHostPort(address, port), nil
}

// ReadCAs reads a file of certificates.
func ReadCAs(file string) ([]byte, error) {
	text, err := os.ReadFile(file)
	if err == nil && !x509.NewCertPool().AppendCertsFromPEM(text) {
		err = fmt.Errorf("%s: %w", file, ErrCAs)
	}
	return text, err
}

// client gives a client that follows no redirection and unpacks nothing by itself.
func (a *Access) client() *http.Client {
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	pool.AppendCertsFromPEM(a.CAs)
	dialer := &net.Dialer{Timeout: 10 * time.Second}
	parallel := a.Parallel
	if parallel <= 0 {
		parallel = DefaultParallel
	}
	return &http.Client{
		Timeout: a.timeout(),
		Transport: &http.Transport{
			Proxy: http.ProxyFromEnvironment,
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				if other := a.Resolve[address]; other != "" {
					address = other
				}
				return dialer.DialContext(ctx, network, address)
			},
			TLSClientConfig:     &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12},
			ForceAttemptHTTP2:   true,
			DisableCompression:  true,
			MaxIdleConnsPerHost: parallel,
			MaxConnsPerHost:     parallel,
			IdleConnTimeout:     30 * time.Second,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

func (a *Access) timeout() time.Duration {
	if a.Timeout > 0 {
		return a.Timeout
	}
	return DefaultTimeout
}

// request makes a request as this program makes them.
func (a *Access) request(ctx context.Context, method, address string) (*http.Request, error) {
	r, err := http.NewRequestWithContext(ctx, method, address, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("User-Agent", a.Agent)
	if a.User != "" {
		r.SetBasicAuth(a.User, a.Password)
	}
	return r, nil
}

// UnreachableError tells that a web server gives no answer.
type UnreachableError struct {
	Address string
	Err     error
}

func (e *UnreachableError) Error() string {
	var (
		name    *net.DNSError
		unknown x509.UnknownAuthorityError
		host    x509.HostnameError
		invalid x509.CertificateInvalidError
	)
	switch {
	case errors.As(e.Err, &name) && name.IsNotFound:
		return fmt.Sprintf("%s: there is no host of the name %s", e.Address, name.Name)
	case errors.As(e.Err, &unknown):
		return fmt.Sprintf("%s: its certificate is signed by an authority that is not known here", e.Address)
	case errors.As(e.Err, &host):
		return fmt.Sprintf("%s: its certificate is for another name: %s", e.Address, strings.Join(host.Certificate.DNSNames, ", "))
	case errors.As(e.Err, &invalid) && invalid.Reason == x509.Expired:
		return fmt.Sprintf("%s: its certificate ended on %s", e.Address, invalid.Cert.NotAfter.Format(time.DateOnly))
	case errors.Is(e.Err, context.DeadlineExceeded) || os.IsTimeout(e.Err):
		return e.Address + ": no answer in time"
	}
	return fmt.Sprintf("%s: %v", e.Address, e.Err)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

// unreachable gives the cause of a request that had no answer.
func unreachable(address string, err error) error {
	var outer *url.Error
	if errors.As(err, &outer) {
		err = outer.Err // it names the address once more
	}
	return &UnreachableError{address, err}
}
