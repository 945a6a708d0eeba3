// Package cloud is a stand-in for a cloud project with service identities: programs that sign
// in with a key of their own and get a token.
//
// It speaks what open standards say of that: OAuth 2.0 with assertions as grants (RFC 6749,
// RFC 7521, RFC 7523), discovery (RFC 8414), keys as JSON Web Keys known by their thumbprints
// (RFC 7517, RFC 7638), tokens that anybody can check (RFC 9068), problems as problem details
// (RFC 9457). It enforces what a real one does: a key that is disabled, has expired or belongs
// to somebody else gets no token, and says so in its words; who has no token, or one that has
// ended, is shown nothing; who does not manage the project changes nothing.
package cloud

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Identity is what a program signs in as.
type Identity struct {
	ID          string // never another one's
	Email       string // what keys name it by
	Description string
	Disabled    bool
	Manages     bool // may read and change the others
	keys        []*Key
}

// Key of an identity. The project keeps the public half alone.
type Key struct {
	ID        string // thumbprint (RFC 7638)
	Origin    string // generated, uploaded
	Disabled  bool
	NotBefore time.Time
	NotAfter  time.Time // far away for never
	public    crypto.PublicKey
	used      time.Time
}

// Fault makes the server misbehave; the zero Fault does not.
type Fault struct {
	Busy    int    // so many requests are told to come again later (429)
	Garbage bool   // what is no JSON
	Issuer  string // says that it is another one
	Hang    <-chan struct{}
	Lose    bool // does what changes something, and ends the connection
}

// Project is a running stand-in.
type Project struct {
	Name string

	config   *tls.Config
	now      func() time.Time
	signer   jose.Signer
	public   jose.JSONWebKey
	lock     sync.Mutex
	list     []*Identity
	fault    Fault
	base     string
	server   *http.Server
	served   chan struct{}
	programs map[string]int // tokens that were given, by identity
}

// New makes one. config has its certificate; now is its clock, nil for the machine's.
func New(name string, config *tls.Config, now func() time.Time) (*Project, error) {
	if now == nil {
		now = time.Now
	}
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	p := &Project{Name: name, config: config, now: now, programs: map[string]int{}}
	if p.public, err = jwkOf(&private.PublicKey); err != nil {
		return nil, err
	}
	p.signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: private, KeyID: p.public.KeyID}}, (&jose.SignerOptions{}).WithType("at+jwt"))
	return p, err
}

// jwkOf is a public key with its thumbprint as its name.
func jwkOf(public crypto.PublicKey) (jose.JSONWebKey, error) {
	jwk := jose.JSONWebKey{Key: public, Use: "sig"}
	if !jwk.Valid() {
		return jwk, errors.New("no key that signs")
	}
	sum, err := jwk.Thumbprint(crypto.SHA256)
	jwk.KeyID = base64.RawURLEncoding.EncodeToString(sum)
	return jwk, err
}

// AddIdentity adds one.
func (p *Project) AddIdentity(v Identity) {
	p.lock.Lock()
	defer p.lock.Unlock()
	p.list = append(p.list, &v)
}

// AddKey gives an identity a key by its public half, and returns its number. It never ends for
// the zero time.
func (p *Project) AddKey(identity string, public crypto.PublicKey, notAfter time.Time) (string, error) {
	p.lock.Lock()
	defer p.lock.Unlock()
	v := p.find(identity)
	if v == nil {
		return "", fmt.Errorf("there is no identity %s", identity)
	}
	k, err := p.keep(v, public, "uploaded", p.now().Add(-time.Hour), notAfter)
	if err != nil {
		return "", err
	}
	return k.ID, nil
}

// far is how a project writes that a key does not end.
var far = time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)

func (p *Project) keep(v *Identity, public crypto.PublicKey, origin string, from, until time.Time) (*Key, error) {
	jwk, err := jwkOf(public)
	if err != nil {
		return nil, err
	}
	if until.IsZero() {
		until = far
	}
	for _, other := range p.list {
		if slices.ContainsFunc(other.keys, func(k *Key) bool { return k.ID == jwk.KeyID }) {
			return nil, fmt.Errorf("the key %s is there already", jwk.KeyID)
		}
	}
	k := &Key{ID: jwk.KeyID, Origin: origin, NotBefore: from.UTC().Truncate(time.Second), NotAfter: until.UTC().Truncate(time.Second), public: public}
	v.keys = append(v.keys, k)
	return k, nil
}

func (p *Project) find(name string) *Identity {
	for _, v := range p.list {
		if v.ID == name || v.Email == name {
			return v
		}
	}
	return nil
}

func (v *Identity) key(id string) *Key {
	for _, k := range v.keys {
		if k.ID == id {
			return k
		}
	}
	return nil
}

// Change changes an identity as somebody with all rights would.
func (p *Project) Change(identity string, change func(*Identity)) {
	p.lock.Lock()
	defer p.lock.Unlock()
	change(p.find(identity))
}

// ChangeKey changes a key of an identity so.
func (p *Project) ChangeKey(identity, key string, change func(*Key)) {
	p.lock.Lock()
	defer p.lock.Unlock()
	change(p.find(identity).key(key))
}

// Used has a key have been used last at a moment.
func (p *Project) Used(identity, key string, at time.Time) {
	p.ChangeKey(identity, key, func(k *Key) { k.used = at.UTC().Truncate(time.Second) })
}

// Keys are those of an identity, by their numbers.
func (p *Project) Keys(identity string) (out []string) {
	p.lock.Lock()
	defer p.lock.Unlock()
	if v := p.find(identity); v != nil {
		for _, k := range v.keys {
			out = append(out, k.ID)
		}
	}
	return out
}

// SetFault has it misbehave from now on.
func (p *Project) SetFault(f Fault) {
	p.lock.Lock()
	defer p.lock.Unlock()
	p.fault = f
}

// Serve listens. It returns its address.
func (p *Project) Serve(address string) (string, error) {
	listener, err := (&net.ListenConfig{}).Listen(background, "tcp", address)
	if err != nil {
		return "", err
	}
	p.base = "https://" + listener.Addr().String()
	p.server = &http.Server{Handler: p.routes(), TLSConfig: p.config, ReadHeaderTimeout: 10 * time.Second, ErrorLog: silent}
	p.served = make(chan struct{})
	go func() { // ends with Close
		defer close(p.served)
		_ = p.server.ServeTLS(listener, "", "")
	}()
	return listener.Addr().String(), nil
}

// URL is where it is.
func (p *Project) URL() string { return p.base }

// Close ends it, with every connection.
func (p *Project) Close() error {
	if p.server == nil {
		return nil
	}
	err := p.server.Close()
	<-p.served
	return err
}
