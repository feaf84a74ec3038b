package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
)

// hashing is the second of the choices that RFC 9106 §4 recommends, with half the lanes: 64 MiB, three passes.
var hashing = &argon2id.Params{Memory: 64 << 10, Iterations: 3, Parallelism: 2, SaltLength: 16, KeyLength: 32}

const (
	leastPassword = 12
	mostPassword  = 256 // characters: nobody types more, and hashing takes as long
	// hashers is how many passwords are hashed at once: each takes 64 MiB.
	hashers = 2
)

// ErrPassword is wrapped by what is wrong with a password.
var ErrPassword = errors.New("not a password that is taken here")

// CheckPassword says what is wrong with a password for an account.
func CheckPassword(name, password string) error {
	n := utf8.RuneCountInString(password)
	first, _ := utf8.DecodeRuneInString(strings.ToLower(password))
	switch folded := strings.ToLower(password); {
	case n < leastPassword:
		return fmt.Errorf("%w: it has %d characters; expected %d at least (a few words will do)", ErrPassword, n, leastPassword)
	case n > mostPassword:
		return fmt.Errorf("%w: it has %d characters; expected %d at most", ErrPassword, n, mostPassword)
	case strings.Trim(folded, string(first)) == "":
		return fmt.Errorf("%w: it is one character again and again", ErrPassword)
	case strings.ReplaceAll(folded, strings.ToLower(name), "") == "":
		return fmt.Errorf("%w: it is the name of the account", ErrPassword)
	case strings.Contains("01234567890123456789012345678901234567890 9876543210987654321098765432109876543210 abcdefghijklmnopqrstuvwxyz qwertyuiopasdfghjklzxcvbnm passwordpasswordpassword", folded):
		return fmt.Errorf("%w: it is one that everybody tries first", ErrPassword)
	}
	return nil
}

// Hasher hashes passwords with Argon2id (RFC 9106), a few at once.
type Hasher struct {
	turns chan struct{}
	empty string // the hash of a password that nobody has
}

// NewHasher is one for a program.
func NewHasher() (*Hasher, error) {
	empty, err := argon2id.CreateHash(rand.Text(), hashing)
	return &Hasher{make(chan struct{}, hashers), empty}, err
}

func (h *Hasher) take(ctx context.Context) error {
	select {
	case h.turns <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Hash gives what is kept of a password.
func (h *Hasher) Hash(ctx context.Context, password string) (string, error) {
	if err := h.take(ctx); err != nil {
		return "", err
	}
	defer func() { <-h.turns }()
	return argon2id.CreateHash(password, hashing)
}

// Matches says whether a password is the one that was hashed. Where there is no hash it takes as long, and is not.
func (h *Hasher) Matches(ctx context.Context, password, hash string) (bool, error) {
	if err := h.take(ctx); err != nil {
		return false, err
	}
	defer func() { <-h.turns }()
	known := hash != ""
	if !known {
		hash = h.empty
	}
	if utf8.RuneCountInString(password) > mostPassword {
		password, known = "", false
	}
	same, err := argon2id.ComparePasswordAndHash(password, hash)
	return same && known, err
}

// tokenMark begins each token, so that one that was left somewhere can be found for what it is.
const tokenMark = "steady_"

// NewToken is a secret that a script asks with: 130 random bits.
func NewToken() string { return tokenMark + strings.ToLower(rand.Text()) }

// NewCode is a secret that is typed once: 60 random bits, in groups.
func NewCode() string {
	text := rand.Text()
	return text[:4] + "-" + text[4:8] + "-" + text[8:12]
}

// Digest is what is kept of a token, or of a code however it is written. Both are random, so that one pass of SHA-256 (FIPS 180-4) will do.
func Digest(secret string) string {
	plain := strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, strings.ToUpper(strings.TrimSpace(secret)))
	sum := sha256.Sum256([]byte(plain))
	return hex.EncodeToString(sum[:])
}
