package household

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
	"idleember/core/fault"
	"idleember/hub"
	"idleember/store"
)

// Factor is what a member needs to bring a second factor (RFC 6238) into an app.
type Factor struct{ Secret, URI string }

const (
	factorStep    = 30 // seconds
	recoveryCodes = 8
)

// FactorState tells whether the member who asks has a second factor, and how many recovery codes are left.
func (p *People) FactorState(_ context.Context, a access.Actor) (on bool, left int, err error) {
	m, err := p.self(a)
	return m.Factor != "", len(recoveryOf(m)), err
}

// self is the member who asks, in person: a token may not change how its member signs in.
func (p *People) self(a access.Actor) (store.Member, error) {
	if err := access.May(a, access.Own, access.Anything); err != nil {
		return store.Member{}, err
	}
	p.mu.RLock()
	defer p.mu.RUnlock()
	m, ok := p.members[a.ID]
	if !ok {
		return m, ErrSignedOut
	}
	return m, nil
}

// confirmed is the member who asks, after the password once more: an open session is not enough to change how one signs
// in.
func (p *People) confirmed(ctx context.Context, a access.Actor, password string) (store.Member, error) {
	m, err := p.self(a)
	if err != nil {
		return m, err
	}
	key := "session of " + m.ID + " from " + a.From // others' guesses are no matter here
	if err := p.try(key); err != nil {
		return m, err
	}
	good, err := p.matches(ctx, m.Password, password)
	if err != nil {
		p.undo(key)
		return m, err
	}
	if !good {
		return m, fault.Invalid("password", "the password is wrong")
	}
	p.right(key)
	return m, nil
}

// provenFor is how long a password that was given in a session stands for who gave it.
const provenFor = 5 * time.Minute

// Prove takes the password again, so that the session may change for a while how people sign in.
func (p *People) Prove(ctx context.Context, a access.Actor, password string) error {
	if _, err := p.confirmed(ctx, a, password); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, ok := p.open[a.Pass]; !ok {
		return ErrSignedOut
	}
	p.proven[a.Pass] = time.Now()
	return nil
}

// InPerson is asked before anything changes how somebody signs in: it takes a person, and the password given lately.
func (p *People) InPerson(a access.Actor) error {
	if err := access.May(a, access.Own, access.Anything); err != nil || a.Kind == access.TheHub {
		return err
	}
	p.mu.RLock()
	defer p.mu.RUnlock()
	if at, ok := p.proven[a.Pass]; !ok || time.Since(at) > provenFor {
		return ErrProve
	}
	return nil
}

// BeginFactor makes the secret of a second factor. It counts only when ConfirmFactor has seen a code of it.
func (p *People) BeginFactor(ctx context.Context, a access.Actor, password string) (Factor, error) {
	m, err := p.confirmed(ctx, a, password)
	if err != nil {
		return Factor{}, err
	}
	if m.Factor != "" {
		return Factor{}, fault.Invalid("factor", "there is a second factor already; take it away first")
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: strings.ReplaceAll(p.house.Site().Hub.Name, ":", " "),
		AccountName: m.ID, Period: factorStep})
	if err != nil {
		return Factor{}, err
	}
	p.mu.Lock()
	p.begun[m.ID] = key.Secret()
	p.mu.Unlock()
	return Factor{key.Secret(), key.URL()}, nil
}

// ConfirmFactor puts the second factor in force and returns recovery codes, each of which stands for one code.
func (p *People) ConfirmFactor(ctx context.Context, a access.Actor, code string) ([]string, error) {
	m, err := p.self(a)
	if err != nil {
		return nil, err
	}
	p.mu.RLock()
	key := p.begun[m.ID]
	p.mu.RUnlock()
	step, ok := stepOf(key, code, p.house.Time())
	if key == "" || !ok {
		return nil, fault.Invalid("code", "this code is not right; look at the app again, and at the clock of the phone")
	}
	var codes, hashes []string
	for range recoveryCodes {
		c := shortCode()
		codes, hashes = append(codes, c), append(hashes, hashOf(c))
	}
	return codes, p.changeMember(ctx, a, m.ID, "a second factor was added", func(t hub.Turn, m *store.Member) error {
		m.Factor, m.Step, m.Recovery = key, step, jsonOf(hashes)
		delete(p.begun, m.ID)
		return nil
	})
}

// EndFactor takes the second factor away.
func (p *People) EndFactor(ctx context.Context, a access.Actor, password string) error {
	m, err := p.confirmed(ctx, a, password)
	if err != nil {
		return err
	}
	return p.changeMember(ctx, a, m.ID, "the second factor was taken away", func(t hub.Turn, m *store.Member) error {
		m.Factor, m.Step, m.Recovery = "", 0, "[]"
		return nil
	})
}

// checkFactor takes a code, or a recovery code, once.
func (p *People) checkFactor(ctx context.Context, account, code string) error {
	return p.house.Do(ctx, func(t hub.Turn) error {
		p.mu.Lock()
		defer p.mu.Unlock()
		m := p.members[account]
		code := strings.ToLower(strings.TrimSpace(code))
		if step, ok := stepOf(m.Factor, strings.ReplaceAll(code, " ", ""), p.house.Time()); ok && step > m.Step {
			m.Step = step
		} else if left := recoveryOf(m); slices.Contains(left, hashOf(code)) {
			m.Recovery = jsonOf(slices.DeleteFunc(left, func(x string) bool { return x == hashOf(code) }))
			t.Journal(access.Actor{Kind: access.Person, ID: m.ID, Name: m.Name}, "use", "member "+m.ID, "", "a recovery code",
				"")
		} else {
			return &FactorError{}
		}
		p.members[account] = m
		t.Write(store.SaveMember(m))
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

func jsonOf(hashes []string) string {
	b, _ := json.Marshal(hashes) // texts
	return string(b)
}

func hashOf(code string) string {
	sum := sha256.Sum256([]byte(code))
	return hex.EncodeToString(sum[:])
}

// ChangePassword is for the member who asks. All their other sessions end, and their tokens and walls unless they are
// to stay.
func (p *People) ChangePassword(ctx context.Context, a access.Actor, old, next string, stay bool) error {
	m, err := p.confirmed(ctx, a, old)
	if err != nil {
		return err
	}
	if err := checkPassword(next, m.ID, m.Name, p.house.Site().Hub.Name); err != nil {
		return err
	}
	hash, err := p.hash(ctx, next)
	if err != nil {
		return err
	}
	return p.changeMember(ctx, a, m.ID, "the password was changed", func(t hub.Turn, m *store.Member) error {
		m.Password = hash
		p.endPasses(t, m.ID, func(x store.Pass) bool { return x.ID != a.Pass && (x.Kind == "session" || !stay) })
		return nil
	})
}

// changeMember changes a member who is there, and says in the journal what.
func (p *People) changeMember(ctx context.Context, a access.Actor, account, what string, change func(hub.Turn,
	*store.Member) error) error {
	return p.house.Do(ctx, func(t hub.Turn) error {
		p.mu.Lock()
		defer p.mu.Unlock()
		m, ok := p.members[account]
		if !ok {
			return fault.NotFound("member", account)
		}
		if err := change(t, &m); err != nil {
			return err
		}
		p.members[account] = m
		t.Write(store.SaveMember(m))
		t.Journal(a, "change", "member "+account, "", what, "")
		t.TellPerson(account, fmt.Sprintf("%s: %s, from %s.", m.Name, what, a.From))
		t.LookAgain()
		return nil
	})
}
