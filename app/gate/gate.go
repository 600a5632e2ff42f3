// Package gate decides who gets in where the program is open to a network: a password, kept as a hash, sessions, and a
// bound on how often it may be tried.
package gate

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
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
	MostTries   = 5 // a minute, from one address
	lasts       = 7 * 24 * time.Hour
	fileName    = "password"
)

// Errors of a try.
var (
	ErrWrong = errors.New("that is not the password")
	ErrTries = errors.New("those were 5 tries in a minute; wait a minute, then try again")
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
	hash   string
	trying sync.Mutex // one at a time: each takes 64 MiB

	mu       sync.Mutex
	sessions map[[sha256.Size]byte]time.Time // by the token's hash: until when
	tries    map[string][]time.Time          // by address, of the last minute
	now      func() time.Time
}

// New makes a gate for a password's hash.
func New(hash string) *Gate {
	return &Gate{hash: hash, sessions: map[[sha256.Size]byte]time.Time{}, tries: map[string][]time.Time{}, now: time.Now}
}

// Enter tries a password from an address, host or host:port; right, it returns the token of a session, else ErrWrong or
// ErrTries.
func (g *Gate) Enter(from, password string) (string, error) {
	if !g.mayTry(from) {
		return "", ErrTries
	}
	if utf8.RuneCountInString(password) > MaxPassword {
		return "", ErrWrong
	}
	salt, want, _ := split(g.hash)
	g.trying.Lock()
	got := tag(password, salt)
	g.trying.Unlock()
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

// mayTry counts a try.
func (g *Gate) mayTry(from string) bool {
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
		return false
	}
	g.tries[who] = append(recent, g.now())
	return true
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
