package main

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"steady-compass/people"
	"steady-compass/server"
)

// accessFlags say how people get to the program, and in.
type accessFlags struct {
	Alone  bool           `help:"Nobody signs in: whoever is on this machine may do everything. On loopback only."`
	Origin string         `help:"What browsers ask for, as https://compass.example.net; needed off loopback." placeholder:"URL"`
	Cert   string         `help:"The certificate that TLS is spoken with (PEM, its chain behind it); read anew when it changes." type:"existingfile" placeholder:"FILE"`
	Key    string         `help:"Its key (PEM)." type:"existingfile" placeholder:"FILE"`
	Front  []netip.Prefix `help:"The only addresses that may connect: a front that speaks TLS and sends X-Forwarded-Proto and X-Forwarded-For." placeholder:"CIDR"`

	SignInAt   string `help:"The issuer of OpenID Connect at which people may sign in too." placeholder:"URL"`
	Client     string `help:"What this program is called there." placeholder:"ID"`
	SecretFile string `help:"A file with the secret by which it is known there." type:"existingfile" placeholder:"FILE"`
	NewRole    string `help:"The role of whoever signs in there and has no account; left out, they are refused." enum:",reader,editor" default:"" placeholder:"ROLE"`
}

// listenAddress gives the address to listen on. One that others reach is refused without TLS, or a front that has it.
func (f *accessFlags) listenAddress(listen string) (string, error) {
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return "", wrong("--listen: %q is no address; expected one, as 127.0.0.1:7373", listen)
	}
	if host == "localhost" {
		host = "127.0.0.1"
	}
	a, err := netip.ParseAddr(host)
	if err != nil && host != "" {
		return "", wrong("--listen: %q is no address; expected one, as 127.0.0.1:7373", listen)
	}
	if err == nil && a.IsLoopback() {
		return net.JoinHostPort(host, port), nil
	}
	switch {
	case f.Alone:
		return "", wrong("--listen: %q can be reached from elsewhere, and with --alone nobody signs in; expected a loopback address, as 127.0.0.1:7373", listen)
	case f.Cert == "" && len(f.Front) == 0:
		return "", wrong("--listen: %q can be reached from elsewhere; expected a loopback address, or TLS (--cert and --key), or a front that has it (--front)", listen)
	case f.Origin == "":
		return "", wrong("--listen: %q can be reached from elsewhere; expected --origin, which says what browsers ask for, as https://compass.example.net", listen)
	}
	return net.JoinHostPort(host, port), nil
}

// access is what the flags say, where they go together.
func (f *accessFlags) access() (out server.Access, err error) {
	out.Alone = f.Alone
	switch {
	case (f.Cert == "") != (f.Key == ""):
		return out, wrong("--cert and --key go together")
	case f.Cert != "" && len(f.Front) > 0:
		return out, wrong("--cert and --front: expected one of them; a front speaks TLS itself")
	case f.Alone && (f.Cert != "" || len(f.Front) > 0 || f.Origin != "" || f.SignInAt != ""):
		return out, wrong("--alone: expected nothing else of --origin, --cert, --front and --sign-in-at, since nobody signs in")
	case len(f.Front) > 0 && f.Origin == "":
		return out, wrong("--front: expected --origin with it, which says what browsers ask for, as https://compass.example.net")
	case f.SignInAt != "" && (f.Client == "" || f.SecretFile == ""):
		return out, wrong("--sign-in-at: expected --client and --secret-file with it")
	case f.SignInAt == "" && (f.Client != "" || f.SecretFile != "" || f.NewRole != ""):
		return out, wrong("--client, --secret-file and --new-role: expected --sign-in-at with them")
	case f.SignInAt != "" && f.Origin == "":
		return out, wrong("--sign-in-at: expected --origin with it, to which the provider sends browsers back")
	}
	if f.Origin != "" {
		if out.Origin, err = url.Parse(f.Origin); err != nil {
			return out, wrong("--origin: %v", err)
		}
		if err := server.CheckOrigin(out.Origin); err != nil {
			return out, wrong("--origin: %v", err)
		}
		if encrypted := f.Cert != "" || len(f.Front) > 0; encrypted != (out.Origin.Scheme == "https") {
			return out, wrong("--origin: %q; expected https with --cert or --front, and http without", f.Origin)
		}
	}
	out.Fronts = f.Front
	if f.SignInAt == "" {
		return out, nil
	}
	out.Elsewhere, err = f.elsewhere()
	return out, err
}

func (f *accessFlags) elsewhere() (*server.Elsewhere, error) {
	u, err := url.Parse(f.SignInAt)
	if err != nil || u.Host == "" {
		return nil, wrong("--sign-in-at: %q is no URL; expected an issuer's, as https://people.example.net", f.SignInAt)
	}
	if host := u.Hostname(); u.Scheme != "https" {
		if a, err := netip.ParseAddr(host); u.Scheme != "http" || host != "localhost" && (err != nil || !a.IsLoopback()) {
			return nil, wrong("--sign-in-at: %q; expected https (http only on loopback)", f.SignInAt)
		}
	}
	secret, err := os.ReadFile(f.SecretFile)
	if err != nil {
		return nil, wrong("--secret-file: %v", err)
	}
	return &server.Elsewhere{Name: u.Host, Issuer: f.SignInAt, Client: f.Client, Secret: strings.TrimSpace(string(secret)), Role: people.Role(f.NewRole)}, nil
}

// keyPair is a certificate with its key, read anew when its files change.
type keyPair struct {
	cert, key string
	log       *slog.Logger

	mu     sync.Mutex
	pair   *tls.Certificate
	stamp  string
	looked time.Time
}

// keyPairLook is how often files are looked at.
const keyPairLook = 5 * time.Second

// newKeyPair reads the files, which are to be in order when the program starts.
func newKeyPair(cert, key string, log *slog.Logger) (*keyPair, error) {
	k := &keyPair{cert: cert, key: key, log: log}
	if err := k.read(); err != nil {
		return nil, wrong("--cert %s, --key %s: %v", cert, key, err)
	}
	return k, nil
}

func (k *keyPair) read() error {
	stamp := fileStamp(k.cert) + fileStamp(k.key)
	if stamp == k.stamp {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(k.cert, k.key)
	if err != nil {
		return err
	}
	k.pair, k.stamp = &pair, stamp
	return nil
}

func fileStamp(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("%d %d ", info.Size(), info.ModTime().UnixNano())
}

// current is the certificate as it is now. While new files cannot be read, the one before goes on.
func (k *keyPair) current(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if time.Since(k.looked) > keyPairLook {
		k.looked = time.Now()
		if err := k.read(); err != nil {
			k.log.Error("read the certificate anew; the one before goes on", "error", err)
		}
	}
	return k.pair, nil
}

// secured speaks TLS on a listener.
func (k *keyPair) secured(l net.Listener) net.Listener {
	return tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: k.current, NextProtos: []string{"h2", "http/1.1"}})
}
