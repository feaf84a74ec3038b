package people

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestRoles: each may what those before it may, and what is none may nothing.
func TestRoles(t *testing.T) {
	for i, r := range Roles {
		for j, needed := range Roles {
			if r.May(needed) != (i >= j) {
				t.Errorf("%s where %s is needed: %t", r, needed, r.May(needed))
			}
			if want := Roles[min(i, j)]; Least(r, needed) != want {
				t.Errorf("the least of %s and %s: %s", r, needed, Least(r, needed))
			}
		}
		if Role("").May(r) || Role("captain").May(r) || r.May("captain") || r.May("") {
			t.Errorf("what is no role, beside %s", r)
		}
	}
}

// TestPasswords: what everybody tries first is not taken, nor what is short; what is taken matches itself alone.
func TestPasswords(t *testing.T) {
	for password, fault := range map[string]string{
		"":                        "0 characters",
		"short":                   "expected 12 at least",
		"elevenchars":             "expected 12 at least",
		"aaaaaaaaaaaaaaaa":        "again and again",
		"ÄÄÄÄÄÄÄÄÄÄÄÄÄÄ":          "again and again",
		"annaannaannaanna":        "the name of the account",
		"AnnaANNAanna":            "the name of the account",
		"passwordpassword":        "tries first",
		"123456789012":            "tries first",
		"abcdefghijklmnop":        "tries first",
		strings.Repeat("ab", 200): "256 at most",
		"seven slow herons":       "",
		"anna has a long one":     "",
		"ключ от маяка":           "",
	} {
		err := CheckPassword("anna", password)
		if (err == nil) != (fault == "") || err != nil && !strings.Contains(err.Error(), fault) {
			t.Errorf("%q: %v; want %q", password, err, fault)
		}
	}
	h, err := NewHasher()
	if err != nil {
		t.Fatal(err)
	}
	hash, err := h.Hash(t.Context(), "seven slow herons")
	if err != nil || !strings.HasPrefix(hash, "$argon2id$v=19$m=65536,t=3,p=2$") {
		t.Fatalf("%s %v", hash, err)
	}
	for _, c := range []struct {
		password, hash string
		want           bool
	}{
		{"seven slow herons", hash, true},
		{"seven slow heron", hash, false},
		{"", hash, false},
		{"", "", false},
		{h.empty, "", false},
		{strings.Repeat("x", 1<<20), hash, false},
	} {
		if got, err := h.Matches(t.Context(), c.password, c.hash); got != c.want || err != nil {
			t.Errorf("%.20q: %t %v", c.password, got, err)
		}
	}
}

// TestCodes: a code is the same however it is typed, a token is found for what it is, and none comes twice.
func TestCodes(t *testing.T) {
	code := NewCode()
	for _, typed := range []string{strings.ToLower(code), " " + strings.ReplaceAll(code, "-", " ") + "\n", strings.ReplaceAll(code, "-", "")} {
		if Digest(typed) != Digest(code) {
			t.Errorf("%q is not %q", typed, code)
		}
	}
	seen := map[string]bool{}
	for range 1000 {
		for _, s := range []string{NewCode(), NewToken()} {
			if seen[s] {
				t.Fatal("twice", s)
			}
			seen[s] = true
		}
	}
	if token := NewToken(); !strings.HasPrefix(token, "steady_") || len(token) < 32 {
		t.Error(token)
	}
}

// TestTries: so many at once, then one each while; who got in has them back, and nobody else has.
func TestTries(t *testing.T) {
	now := time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)
	tries := NewTries(3, time.Minute)
	for i := range 3 {
		if wait := tries.Take("anna", now); wait != 0 {
			t.Fatalf("try %d waits %s", i, wait)
		}
	}
	if wait := tries.Take("anna", now); wait != time.Minute {
		t.Errorf("the fourth waits %s", wait)
	}
	if wait := tries.Take("anna", now.Add(30*time.Second)); wait != 30*time.Second {
		t.Errorf("half a minute later: %s", wait)
	}
	if wait := tries.Take("bert", now); wait != 0 {
		t.Errorf("another waits %s", wait)
	}
	if wait := tries.Take("anna", now.Add(61*time.Second)); wait != 0 {
		t.Errorf("a minute later: %s", wait)
	}
	for i := range 20 { // each gets in: together they are never too many
		at := now.Add(time.Hour)
		if wait := tries.Take("the office", at); wait != 0 {
			t.Fatalf("person %d waits %s", i, wait)
		}
		tries.Back("the office", at)
	}
	for i := range 3 * mostBuckets {
		tries.Take(fmt.Sprint(i), now)
	}
	if len(tries.of) > mostBuckets {
		t.Errorf("%d are told apart", len(tries.of))
	}
}

// TestNames: a name is what a log can name.
func TestNames(t *testing.T) {
	for name, good := range map[string]bool{
		"anna": true, "Žofie": true, "anna@example.net": true, "a": true, "anna-2_b.c": true,
		"": false, "anna b": false, "a/b": false, "<b>": false, "a\n": false, strings.Repeat("a", 41): false, "a\u202eb": false,
	} {
		if err := CheckName(name); (err == nil) != good {
			t.Errorf("%q: %v", name, err)
		}
	}
	for name, good := range map[string]bool{"nightly check": true, "": false, "  ": false, "a\nb": false} {
		if err := CheckTokenName(name); (err == nil) != good {
			t.Errorf("token %q: %v", name, err)
		}
	}
}
