// Package gate decides who gets in where the program is open to a network: a password, kept as a hash, sessions, and a
// bound on how often it may be tried.
package gate

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// Bounds.
const (
	MinPassword = 10 // characters
	MaxPassword = 1000
	MostTries   = 5  // a minute, from one address
	mostWaiting = 16 // tries that wait for their turn, from all addresses
	lasts       = 7 * 24 * time.Hour
	fileName    = "password"
)

// Errors of a try.
var (
	ErrWrong = errors.New("that is not the password")
	ErrTries = errors.New("those were 5 tries in a minute; wait a minute, then try again")
	ErrBusy  = errors.New("many are trying the password at once; try again in a moment")
	ErrShort = fmt.Errorf("a password has at least %d characters", MinPassword)
	ErrLong  = fmt.Errorf("a password has at most %d characters", MaxPassword)
)

// The cost of a try: argon2id as RFC 9106 recommends where 2 GiB are too much (4., the second option): 3 passes, 64 MiB,
// 4 lanes, a salt of 128 bits, a tag of 256.
const (
	passes, memory, lanes = 3, 64 << 10, 4
	salted, tagged        = 16, 32
	form                  = "$argon2id$v=19$m=65536,t=3,p=4$"
)

var code = base64.RawStdEncoding

// Hash makes what is kept of a password.
func Hash(password string) (string, error) {
	switch n := utf8.RuneCountInString(password); {
	case n < MinPassword:
		return "", ErrShort
	case n > MaxPassword:
		return "", ErrLong
	}
	salt := make([]byte, salted)
	rand.Read(salt)
	return form + code.EncodeToString(salt) + "$" + code.EncodeToString(tag(password, salt)), nil
}

func tag(password string, salt []byte) []byte {
	return argon2.IDKey([]byte(password), salt, passes, memory, lanes, tagged)
}

// split returns the salt and the tag of a hash.
func split(hash string) (salt, want []byte, ok bool) {
	rest, ours := strings.CutPrefix(strings.TrimSpace(hash), form)
	s, t, _ := strings.Cut(rest, "$")
	salt, err := code.DecodeString(s)
	want, err2 := code.DecodeString(t)
	return salt, want, ours && err == nil && err2 == nil && len(salt) == salted && len(want) == tagged
}

// Write keeps a password's hash in a data folder.
func Write(dir, hash string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, fileName+"-*")
	if err != nil {
		return err
	}
	_, err = f.WriteString(hash + "\n")
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), filepath.Join(dir, fileName))
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

// Read returns the hash that a data folder keeps, "" where none was set.
func Read(dir string) (string, error) {
	b, err := os.ReadFile(filepath.Join(dir, fileName))
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	if _, _, ok := split(string(b)); !ok {
		return "", fmt.Errorf("%s is damaged; set a new one with mellowthump password", filepath.Join(dir, fileName))
	}
	return strings.TrimSpace(string(b)), nil
}

// Once returns a password for one start, in groups that can be read aloud: 80 bits.
func Once() string {
	t := strings.ToLower(rand.Text())
	return strings.Join([]string{t[:4], t[4:8], t[8:12], t[12:16]}, "-")
}

// Gate knows who is in.
type Gate struct {
	hash string
	turn queue // one try at a time: each takes 64 MiB

	mu       sync.Mutex
	sessions map[[sha256.Size]byte]time.Time // by the token's hash: until when
	tries    map[string][]time.Time          // by address, of the last minute
	now      func() time.Time
}

// New makes a gate for a password's hash.
func New(hash string) *Gate {
	return &Gate{hash: hash, sessions: map[[sha256.Size]byte]time.Time{}, tries: map[string][]time.Time{}, now: time.Now}
}

// Enter tries a password from an address, host or host:port; right, it returns the token of a session, else ErrWrong,
// ErrTries or ErrBusy, or what ended ctx: nothing is worked out for who has gone.
func (g *Gate) Enter(ctx context.Context, from, password string) (string, error) {
	tries := g.mayTry(from)
	if tries == 0 {
		return "", ErrTries
	}
	if utf8.RuneCountInString(password) > MaxPassword {
		return "", ErrWrong
	}
	salt, want, _ := split(g.hash)
	if err := g.turn.take(ctx, tries); err != nil {
		return "", err
	}
	got := tag(password, salt)
	g.turn.leave()
	if len(want) != tagged || subtle.ConstantTimeCompare(got, want) != 1 {
		return "", ErrWrong
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.tries, network(from))
	token := rand.Text() // 130 bits
	g.sessions[sha256.Sum256([]byte(token))] = g.now().Add(lasts)
	return token, nil
}

// mayTry counts a try, and returns which of the last minute it is from its address; 0: it is one too many.
func (g *Gate) mayTry(from string) int {
	g.mu.Lock()
	defer g.mu.Unlock()
	since := g.now().Add(-time.Minute)
	for who, at := range g.tries { // the last of each is the latest
		if !at[len(at)-1].After(since) {
			delete(g.tries, who)
		}
	}
	who := network(from)
	var recent []time.Time
	for _, t := range g.tries[who] {
		if t.After(since) {
			recent = append(recent, t)
		}
	}
	if len(recent) >= MostTries {
		return 0
	}
	g.tries[who] = append(recent, g.now())
	return len(recent) + 1
}

// queue lets one in at a time: whose address has tried least goes first, then who came first. It holds so many; who has tried
// most makes room.
type queue struct {
	mu      sync.Mutex
	busy    bool
	waiting []*waiter
}

type waiter struct {
	tries int
	turn  chan error // nil: it is its turn
}

// take waits for a turn.
func (q *queue) take(ctx context.Context, tries int) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	w := &waiter{tries, make(chan error, 1)}
	q.mu.Lock()
	switch {
	case !q.busy:
		q.busy = true
		w.turn <- nil
	case len(q.waiting) < mostWaiting:
		q.waiting = append(q.waiting, w)
	default:
		i := len(q.waiting) - 1
		for k, o := range q.waiting {
			if o.tries > q.waiting[i].tries {
				i = k
			}
		}
		if q.waiting[i].tries <= tries {
			q.mu.Unlock()
			return ErrBusy
		}
		q.waiting[i].turn <- ErrBusy
		q.waiting = append(slices.Delete(q.waiting, i, i+1), w)
	}
	q.mu.Unlock()
	select {
	case err := <-w.turn:
		return err
	case <-ctx.Done():
	}
	q.mu.Lock()
	i := slices.Index(q.waiting, w)
	if i >= 0 {
		q.waiting = slices.Delete(q.waiting, i, i+1)
	}
	q.mu.Unlock()
	if i < 0 && <-w.turn == nil { // it came just now
		q.leave()
	}
	return ctx.Err()
}

// leave lets the next in.
func (q *queue) leave() {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.waiting) == 0 {
		q.busy = false
		return
	}
	i := 0
	for k, o := range q.waiting {
		if o.tries < q.waiting[i].tries {
			i = k
		}
	}
	q.waiting[i].turn <- nil
	q.waiting = slices.Delete(q.waiting, i, i+1)
}

// network is what one person has of addresses: one of IPv4, 2^64 of IPv6.
func network(from string) string {
	a, err := netip.ParseAddr(from)
	if ap, err2 := netip.ParseAddrPort(from); err2 == nil {
		a, err = ap.Addr(), nil
	}
	if err != nil {
		return from
	}
	if a = a.Unmap().WithZone(""); a.Is6() {
		p, _ := a.Prefix(64)
		return p.String()
	}
	return a.String()
}

// In reports whether a token is that of a session.
func (g *Gate) In(token string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	key := sha256.Sum256([]byte(token))
	until, known := g.sessions[key]
	if known && !g.now().Before(until) {
		delete(g.sessions, key)
		return false
	}
	return known
}

// Leave ends a session.
func (g *Gate) Leave(token string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.sessions, sha256.Sum256([]byte(token)))
}
