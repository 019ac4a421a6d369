package hub

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp/hotp"
	"github.com/pquerna/otp/totp"

	"idleember/core/access"
	"idleember/store"
)

// Factor is what a member needs to bring a second factor (RFC 6238) into an app.
type Factor struct{ Secret, URI string }

const (
	factorStep    = 30 // seconds
	recoveryCodes = 8
)

// FactorState tells whether the member who asks has a second factor, and how many recovery codes are left.
func (h *Hub) FactorState(_ context.Context, a access.Actor) (on bool, left int, err error) {
	m, err := h.self(a)
	return m.Factor != "", len(recoveryOf(m)), err
}

// self is the member who asks, in person: a token may not change how its member signs in.
func (h *Hub) self(a access.Actor) (store.Member, error) {
	if err := access.May(a, access.Own, access.Anything); err != nil {
		return store.Member{}, err
	}
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	m, ok := h.people.members[a.ID]
	if !ok {
		return m, ErrSignedOut
	}
	return m, nil
}

// confirmed is the member who asks, after the password once more: an open session is not enough to change how one signs in.
func (h *Hub) confirmed(ctx context.Context, a access.Actor, password string) (store.Member, error) {
	m, err := h.self(a)
	if err != nil {
		return m, err
	}
	key := "session of " + m.ID + " from " + a.From // others' guesses are no matter here
	if err := h.people.try(key); err != nil {
		return m, err
	}
	good, err := h.people.matches(ctx, m.Password, password)
	if err != nil {
		h.people.undo(key)
		return m, err
	}
	if !good {
		return m, &InvalidError{"password", "the password is wrong"}
	}
	h.people.right(key)
	return m, nil
}

// provenFor is how long a password that was given in a session stands for who gave it.
const provenFor = 5 * time.Minute

// Prove takes the password again, so that the session may change for a while how people sign in.
func (h *Hub) Prove(ctx context.Context, a access.Actor, password string) error {
	if _, err := h.confirmed(ctx, a, password); err != nil {
		return err
	}
	h.people.mu.Lock()
	defer h.people.mu.Unlock()
	if _, ok := h.people.open[a.Pass]; !ok {
		return ErrSignedOut
	}
	h.people.proven[a.Pass] = time.Now()
	return nil
}

// inPerson is asked before anything changes how somebody signs in: it takes a person, and the password given lately.
func (h *Hub) inPerson(a access.Actor) error {
	if err := access.May(a, access.Own, access.Anything); err != nil || a.Kind == access.TheHub {
		return err
	}
	h.people.mu.RLock()
	defer h.people.mu.RUnlock()
	if at, ok := h.people.proven[a.Pass]; !ok || time.Since(at) > provenFor {
		return ErrProve
	}
	return nil
}

// BeginFactor makes the secret of a second factor. It counts only when ConfirmFactor has seen a code of it.
func (h *Hub) BeginFactor(ctx context.Context, a access.Actor, password string) (Factor, error) {
	m, err := h.confirmed(ctx, a, password)
	if err != nil {
		return Factor{}, err
	}
	if m.Factor != "" {
		return Factor{}, &InvalidError{"factor", "there is a second factor already; take it away first"}
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: strings.ReplaceAll(h.Site().Hub.Name, ":", " "), AccountName: m.ID, Period: factorStep})
	if err != nil {
		return Factor{}, err
	}
	h.people.mu.Lock()
	h.people.begun[m.ID] = key.Secret()
	h.people.mu.Unlock()
	return Factor{key.Secret(), key.URL()}, nil
}

// ConfirmFactor puts the second factor in force and returns recovery codes, each of which stands for one code.
func (h *Hub) ConfirmFactor(ctx context.Context, a access.Actor, code string) ([]string, error) {
	m, err := h.self(a)
	if err != nil {
		return nil, err
	}
	h.people.mu.RLock()
	key := h.people.begun[m.ID]
	h.people.mu.RUnlock()
	step, ok := stepOf(key, code, h.Time())
	if key == "" || !ok {
		return nil, &InvalidError{"code", "this code is not right; look at the app again, and at the clock of the phone"}
	}
	var codes, hashes []string
	for range recoveryCodes {
		s := secret(8)
		c := s[:4] + "-" + s[4:8] + "-" + s[8:12]
		codes, hashes = append(codes, c), append(hashes, hashOf(c))
	}
	return codes, h.changeMember(ctx, a, m.ID, "a second factor was added", func(m *store.Member) error {
		m.Factor, m.Step, m.Recovery = key, step, raw(hashes)
		delete(h.people.begun, m.ID)
		return nil
	})
}

// EndFactor takes the second factor away.
func (h *Hub) EndFactor(ctx context.Context, a access.Actor, password string) error {
	m, err := h.confirmed(ctx, a, password)
	if err != nil {
		return err
	}
	return h.changeMember(ctx, a, m.ID, "the second factor was taken away", func(m *store.Member) error {
		m.Factor, m.Step, m.Recovery = "", 0, "[]"
		return nil
	})
}

// checkFactor takes a code, or a recovery code, once.
func (h *Hub) checkFactor(ctx context.Context, account, code string) error {
	return h.do(ctx, func() error {
		h.people.mu.Lock()
		defer h.people.mu.Unlock()
		m := h.people.members[account]
		code := strings.ToLower(strings.TrimSpace(code))
		if step, ok := stepOf(m.Factor, strings.ReplaceAll(code, " ", ""), h.Time()); ok && step > m.Step {
			m.Step = step
		} else if left := recoveryOf(m); slices.Contains(left, hashOf(code)) {
			m.Recovery = raw(slices.DeleteFunc(left, func(x string) bool { return x == hashOf(code) }))
			h.journal(h.Time(), access.Actor{Kind: access.Person, ID: m.ID, Name: m.Name}, "use", "member "+m.ID, "", "a recovery code", "")
		} else {
			return &FactorError{}
		}
		h.people.members[account] = m
		h.write(store.SaveMember(m))
		return nil
	})
}

// FactorError says that a code was wrong or used before.
type FactorError struct{}

func (*FactorError) Error() string {
	return "this code is not right, or was used before; wait for the next one"
}

// stepOf returns the time step of which a code is, where that is now or next to it.
func stepOf(key, code string, now time.Time) (step int64, ok bool) {
	if key == "" || len(code) != 6 {
		return 0, false
	}
	for _, off := range []int64{0, -1, 1} {
		step := now.Unix()/factorStep + off
		want, err := hotp.GenerateCode(key, uint64(step)) //nolint:gosec // after 1970
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return step, true
		}
	}
	return 0, false
}

func recoveryOf(m store.Member) (hashes []string) {
	_ = json.Unmarshal([]byte(m.Recovery), &hashes) // we wrote it
	return hashes
}

func hashOf(code string) string {
	sum := sha256.Sum256([]byte(code))
	return hex.EncodeToString(sum[:])
}

// ChangePassword is for the member who asks. All their other sessions end, and their tokens and walls unless they are to stay.
func (h *Hub) ChangePassword(ctx context.Context, a access.Actor, old, next string, stay bool) error {
	m, err := h.confirmed(ctx, a, old)
	if err != nil {
		return err
	}
	if err := checkPassword(next, m.ID, m.Name, h.Site().Hub.Name); err != nil {
		return err
	}
	hash, err := h.people.hash(ctx, next)
	if err != nil {
		return err
	}
	return h.changeMember(ctx, a, m.ID, "the password was changed", func(m *store.Member) error {
		m.Password = hash
		h.endPasses(m.ID, func(x store.Pass) bool { return x.ID != a.Pass && (x.Kind == "session" || !stay) })
		return nil
	})
}

// changeMember changes a member who is there, and says in the journal what.
func (h *Hub) changeMember(ctx context.Context, a access.Actor, account, what string, change func(*store.Member) error) error {
	return h.do(ctx, func() error {
		h.people.mu.Lock()
		defer h.people.mu.Unlock()
		m, ok := h.people.members[account]
		if !ok {
			return &NotFoundError{What: "member", ID: account}
		}
		if err := change(&m); err != nil {
			return err
		}
		h.people.members[account] = m
		h.write(store.SaveMember(m))
		h.journal(h.Time(), a, "change", "member "+account, "", what, "")
		h.tellPerson(account, fmt.Sprintf("%s: %s, from %s.", m.Name, what, a.From))
		h.lookAgain()
		return nil
	})
}
