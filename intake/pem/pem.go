// Package pem reads certificates as they lie on a machine (RFC 7468, RFC 5280): for whom each is and until when. Private keys are refused,
// and nothing of them is kept.
package pem

import (
	"cmp"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"steady-compass/core/estate"
	"steady-compass/intake"
)

// Is says whether a text is one of certificates, or keys.
func Is(text string) bool { return strings.Contains(text, "-----BEGIN ") }

// keyLabels are the labels of what must not leave a machine (RFC 7468 §10 and §11, RFC 5915, RFC 8017).
var keyLabels = []string{"PRIVATE KEY", "ENCRYPTED PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY", "DSA PRIVATE KEY", "OPENSSH PRIVATE KEY"}

// HasKey says whether a text holds a private key, whole or not.
func HasKey(text string) bool {
	return slices.ContainsFunc(keyLabels, func(label string) bool { return strings.Contains(text, "-----BEGIN "+label+"-----") })
}

// leaf is a certificate that a place shows, with where it was read.
type leaf struct {
	file  string
	names []string
	until estate.Date
}

// Read reads the certificates of a place. One that is recorded there for the same names gets its day, or the names and the day where it has
// the same name as the file; others come with the name of their file. Those of issuers, which stand behind, are left out.
func Read(files []intake.File, at string, e *estate.Estate) intake.Reading {
	r := intake.Reading{}
	taken := map[string]bool{}
	for _, rec := range e.Of(estate.KindNamed("cert")) {
		taken[rec.(*estate.Cert).Name] = true
	}
	var leaves []leaf // one for the same names is read from several files often: alone, and with its issuers
	for _, f := range files {
		for _, l := range read(f, &r) {
			i := slices.IndexFunc(leaves, func(o leaf) bool { return sameNames(o.names, l.names) })
			if i < 0 {
				leaves = append(leaves, l)
			} else if l.until > leaves[i].until {
				leaves[i] = l
			}
		}
	}
	for _, l := range leaves {
		if old := recorded(e, at, l); old != nil {
			next := estate.With(old, func(c *estate.Cert) { c.For, c.Expires, c.Off = l.names, l.until, false })
			if estate.Line(next) != estate.Line(old) {
				r.Instead = append(r.Instead, intake.Swap{Old: old, New: next})
			}
			r.Records = append(r.Records, next)
			continue
		}
		c := &estate.Cert{Name: free(nameOf(l), taken), For: l.names, Expires: l.until, On: []string{at}, Renew: estate.NotGiven, Every: estate.NotGiven}
		if err := estate.Complete(c); err != nil {
			r.Faults = intake.AddFault(r.Faults, intake.FileFault{File: l.file, Line: 1, What: err.Error(), Expected: "a certificate for host names or addresses"})
			continue
		}
		taken[c.Name] = true
		r.Records = append(r.Records, c)
	}
	return r
}

// read are the certificates of a file that a place shows: those that issue others in it are not.
func read(f intake.File, r *intake.Reading) []leaf {
	fault := func(rest int, what, expected string) {
		line := 1 + strings.Count(f.Text[:len(f.Text)-rest], "\n")
		r.Faults = intake.AddFault(r.Faults, intake.FileFault{File: f.Name, Line: line, What: what, Expected: expected})
	}
	if HasKey(f.Text) {
		at := strings.Index(f.Text, "PRIVATE KEY-----")
		fault(len(f.Text)-at, "it holds a private key, which is not read and not kept", "the certificate alone: a file of which others may know")
		return nil
	}
	var out []leaf
	rest := []byte(f.Text)
	blocks, issuers := 0, 0
	for len(strings.TrimSpace(string(rest))) > 0 {
		left := len(rest)
		block, after := pem.Decode(rest)
		if block == nil {
			break
		}
		rest, blocks = after, blocks+1
		if block.Type != "CERTIFICATE" && block.Type != "TRUSTED CERTIFICATE" && block.Type != "X509 CERTIFICATE" {
			r.Left = append(r.Left, fmt.Sprintf("A block %q is no certificate.", block.Type))
			continue
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			fault(left, fmt.Sprintf("the certificate cannot be read (%s)", strings.TrimPrefix(err.Error(), "x509: ")), "one as RFC 5280 has it")
			continue
		}
		if c.IsCA && len(c.DNSNames)+len(c.IPAddresses) == 0 { // one that signs itself may say that it is one, and is shown all the same
			issuers++
			continue
		}
		names := namesOf(c, func(what string) { r.Left = append(r.Left, what) })
		if len(names) == 0 {
			fault(left, "the certificate is for no host name and no address", "one with a subject alternative name (RFC 5280 §4.2.1.6)")
			continue
		}
		out = append(out, leaf{f.Name, names, estate.Date(c.NotAfter.UTC().Format(time.DateOnly))})
	}
	switch {
	case blocks == 0:
		fault(len(f.Text), "it holds no certificate", "a block that begins with -----BEGIN CERTIFICATE-----")
	case issuers == 1:
		r.Left = append(r.Left, "The certificate of an issuer is left out.")
	case issuers > 1:
		r.Left = append(r.Left, fmt.Sprintf("%d certificates of issuers are left out.", issuers))
	}
	return out
}

// namesOf are the host names and addresses that a certificate is for (RFC 9525: those of the subject alternative name alone count).
func namesOf(c *x509.Certificate, leave func(string)) []string {
	var out []string
	add := func(name string) {
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	for _, n := range c.DNSNames {
		base, wild := strings.CutPrefix(n, "*.")
		clean, ok := estate.CleanHostname(base)
		switch {
		case !ok:
			leave(fmt.Sprintf("%q is no host name, and is left out.", n))
		case wild:
			add("*." + clean)
		default:
			add(clean)
		}
	}
	for _, ip := range c.IPAddresses {
		add(ip.String())
	}
	return out
}

// recorded is the certificate of a place that a read one is: for the same names, or of the same name as its file.
func recorded(e *estate.Estate, at string, l leaf) *estate.Cert {
	var byName *estate.Cert
	for _, rec := range e.Of(estate.KindNamed("cert")) {
		c := rec.(*estate.Cert)
		if !slices.Contains(c.On, at) {
			continue
		}
		if sameNames(c.For, l.names) {
			return c
		}
		if c.Name == nameOf(l) {
			byName = c
		}
	}
	return byName
}

func sameNames(a, b []string) bool {
	x, y := slices.Clone(a), slices.Clone(b)
	slices.Sort(x)
	slices.Sort(y)
	return slices.Equal(x, y)
}

// nameOf is what a certificate is called: as its file, where that says more than what it is, else as the first label that it is for.
func nameOf(l leaf) string {
	base := strings.ToLower(path.Base(strings.ReplaceAll(l.file, `\`, "/")))
	for _, ext := range []string{".pem", ".crt", ".cer", ".cert"} {
		base = strings.TrimSuffix(base, ext)
	}
	if !generic[base] {
		if name := estate.CleanName(base); name != "" {
			return name
		}
	}
	label, _, _ := strings.Cut(strings.TrimPrefix(l.names[0], "*."), ".")
	return cmp.Or(estate.CleanName(label), "cert")
}

// generic are file names that say nothing of what they hold.
var generic = map[string]bool{"cert": true, "fullchain": true, "chain": true, "server": true, "tls": true, "certificate": true, "public": true, "site": true}

// free is a name that no certificate has.
func free(name string, taken map[string]bool) string {
	out := name
	for n := 2; taken[out]; n++ {
		out = fmt.Sprintf("%s-%d", name, n)
	}
	return out
}
