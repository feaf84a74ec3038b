package pem

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"steady-compass/core/estate"
	"steady-compass/core/notation/notationtest"
	"steady-compass/intake"
)

// issued is a certificate, and the key that signed it.
func issued(t testing.TB, until string, issues bool, names ...string) (text, key string) {
	t.Helper()
	signer, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	end, err := time.Parse(time.RFC3339, until)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "not a name that counts"}, NotBefore: end.AddDate(0, -3, 0), NotAfter: end,
		IsCA: issues, BasicConstraintsValid: true,
	}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else {
			c.DNSNames = append(c.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, signer.Public(), signer)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(signer)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}))
}

const machine = `host box
cert shop for shop.example on box/front by http-01
cert old for a.example,b.example expires 2026-01-01 on box/front renew 20d note "ours"
cert elsewhere for shop.example expires 2026-01-01 on box
`

func TestRead(t *testing.T) {
	shop, key := issued(t, "2027-03-09T10:00:00Z", false, "shop.example", "www.shop.example")
	again, _ := issued(t, "2027-04-01T23:59:59Z", false, "B.example", "a.example")
	fresh, _ := issued(t, "2027-05-05T00:00:00Z", false, "*.fresh.example", "203.0.113.7", "2001:db8::7", "bad_name!.example")
	issuer, _ := issued(t, "2030-01-01T00:00:00Z", true)
	itself, _ := issued(t, "2027-05-05T00:00:00Z", true, "nas.example")
	bare, _ := issued(t, "2027-01-01T00:00:00Z", false)
	for _, c := range []struct {
		name   string
		files  []intake.File
		lines  []string // in the order read
		old    []string // whose place they take
		faults string
		left   string
	}{
		{"one that is wanted there is filled in", []intake.File{{Name: "/etc/x/shop.pem", Text: shop}}, []string{"cert shop for shop.example,www.shop.example expires 2027-03-09 on box/front by http-01"}, []string{"cert shop for shop.example on box/front by http-01"}, "", ""},
		{"one for the same names is renewed", []intake.File{{Name: "fullchain.pem", Text: again + issuer}}, []string{`cert old for b.example,a.example expires 2027-04-01 on box/front renew 20d note "ours"`}, []string{`cert old for a.example,b.example expires 2026-01-01 on box/front renew 20d note "ours"`}, "", "certificate of an issuer"},
		{"another comes", []intake.File{{Name: "cert.pem", Text: fresh}}, []string{"cert fresh for *.fresh.example,203.0.113.7,2001:db8::7 expires 2027-05-05 on box/front"}, nil, "", "no host name"},
		{"alone and with its issuers", []intake.File{{Name: "cert.pem", Text: fresh}, {Name: "fullchain.pem", Text: fresh + issuer}}, []string{"cert fresh for *.fresh.example,203.0.113.7,2001:db8::7 expires 2027-05-05 on box/front"}, nil, "", ""},
		{"two of one name are told apart", []intake.File{{Name: "a/elsewhere.pem", Text: fresh}}, []string{"cert elsewhere-2 for *.fresh.example,203.0.113.7,2001:db8::7 expires 2027-05-05 on box/front"}, nil, "", ""},
		{"one that signs itself", []intake.File{{Name: "nas.pem", Text: itself}}, []string{"cert nas for nas.example expires 2027-05-05 on box/front"}, nil, "", ""},
		{"a key", []intake.File{{Name: "both.pem", Text: shop + key}}, nil, nil, "both.pem:11:1: it holds a private key", ""},
		{"a key cut short", []intake.File{{Name: "k", Text: key[:60]}}, nil, nil, "private key", ""},
		{"nothing", []intake.File{{Name: "x.pem", Text: "hello\n"}}, nil, nil, "holds no certificate", ""},
		{"a block that is no certificate", []intake.File{{Name: "x.pem", Text: "-----BEGIN DH PARAMETERS-----\nAAAA\n-----END DH PARAMETERS-----\n" + fresh}}, []string{"cert x for *.fresh.example,203.0.113.7,2001:db8::7 expires 2027-05-05 on box/front"}, nil, "", "DH PARAMETERS"},
		{"garbled", []intake.File{{Name: "x.pem", Text: "\n\n-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"}}, nil, nil, "x.pem:1:1: the certificate cannot be read", ""},
		{"for nobody", []intake.File{{Name: "x.pem", Text: bare}}, nil, nil, "for no host name", ""},
	} {
		r := Read(c.files, "box/front", notationtest.Parse(t, machine))
		var got, old, faults []string
		for _, rec := range r.Records {
			got = append(got, estate.Line(rec))
		}
		for _, sw := range r.Instead {
			old = append(old, estate.Line(sw.Old))
		}
		for _, f := range r.Faults {
			faults = append(faults, f.String())
		}
		if !slices.Equal(got, c.lines) || !slices.Equal(old, c.old) {
			t.Errorf("%s\ngot  %q for %q\nwant %q for %q", c.name, got, old, c.lines, c.old)
		}
		if all := strings.Join(faults, "\n"); !strings.Contains(all, c.faults) || c.faults == "" && all != "" {
			t.Errorf("%s: faults %q, want %q", c.name, all, c.faults)
		}
		if all := strings.Join(r.Left, "\n"); !strings.Contains(all, c.left) {
			t.Errorf("%s: left %q, want %q", c.name, all, c.left)
		}
		if strings.Contains(strings.Join(slices.Concat(got, faults, r.Left), "\n"), strings.Split(key, "\n")[1]) {
			t.Errorf("%s: the key is repeated", c.name)
		}
	}
}

// FuzzRead reads whatever there is: it says what is wrong, and each record is one that the notation can keep.
func FuzzRead(f *testing.F) {
	text, key := issued(f, "2027-03-09T10:00:00Z", false, "shop.example")
	f.Add("a.pem", text)
	f.Add("key.pem", text+key)
	f.Add("x", "-----BEGIN CERTIFICATE-----\nMAA=\n-----END CERTIFICATE-----")
	f.Fuzz(func(t *testing.T, name, text string) {
		r := Read([]intake.File{{Name: name, Text: text}}, "box", notationtest.Parse(t, "host box\n"))
		var lines strings.Builder
		for _, rec := range r.Records {
			lines.WriteString(estate.Line(rec) + "\n")
		}
		notationtest.Parse(t, lines.String())
		if len(r.Records)+len(r.Faults)+len(r.Left) == 0 {
			t.Error("nothing is said")
		}
	})
}
