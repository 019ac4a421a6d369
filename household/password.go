package household

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"

	"idleember/core/fault"
)

// argon2id with the parameters that OWASP gives for 19 MiB; a small computer takes about a tenth of a second.
const (
	argonTime   = 2
	argonMemory = 19 * 1024 // KiB
	argonLength = 32
)

func (p *People) hash(ctx context.Context, password string) (string, error) {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails
	sum, err := p.derive(ctx, password, salt)
	if err != nil {
		return "", err
	}
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonTime,
		enc.EncodeToString(salt), enc.EncodeToString(sum)), nil
}

func (p *People) derive(ctx context.Context, password string, salt []byte) ([]byte, error) {
	select {
	case p.hashing <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	defer func() { <-p.hashing }()
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, argonLength), nil
}

func (p *People) matches(ctx context.Context, hash, password string) (bool, error) {
	parts := strings.Split(hash, "$")
	salt, sum := []byte("no such account!"), []byte(nil)
	if len(parts) == 6 {
		salt, _ = base64.RawStdEncoding.DecodeString(parts[4])
		sum, _ = base64.RawStdEncoding.DecodeString(parts[5])
	}
	got, err := p.derive(ctx, password, salt) // also where there is no such account, so that both take the same time
	return err == nil && len(sum) > 0 && subtle.ConstantTimeCompare(got, sum) == 1, err
}

const (
	shortestPassword = 12 // characters, as ASVS 4.0.3 2.1.1 asks
	longestPassword  = 200
	weighedPassword  = 64 // bytes of it are looked at, as the work grows with the square
)

// checkPassword says what is wrong with a new password. about is what everybody knows of its owner.
func checkPassword(password string, about ...string) error {
	switch n := utf8.RuneCountInString(password); {
	case n < shortestPassword:
		return fault.Invalid("password", "the password has %d characters; use at least %d, a few words are fine", n,
			shortestPassword)
	case len(password) > longestPassword:
		return fault.Invalid("password", "the password is longer than %d bytes; shorten it", longestPassword)
	case zxcvbn.PasswordStrength(password[:min(len(password), weighedPassword)], about).Score < 2:
		return fault.Invalid("password", "this password is among the first that somebody would try; take a few words that "+
			"have nothing to do with one another")
	}
	return nil
}
