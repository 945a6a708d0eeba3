package cloud

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"io"
	"log"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

var (
	background = context.Background()
	silent     = log.New(io.Discard, "", 0)
)

// pageSize is how many identities one answer has: whoever asks must go on.
const pageSize = 50

func (p *Project) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/oauth-authorization-server", p.discover)
	mux.HandleFunc("GET /jwks", func(w http.ResponseWriter, _ *http.Request) { answer(w, 200, map[string]any{"keys": []any{p.public}}) })
	mux.HandleFunc("POST /token", p.token)
	mux.HandleFunc("GET /feeds/timetable", p.signedIn(func(w http.ResponseWriter, _ *http.Request, who *Identity) {
		answer(w, 200, map[string]any{"for": who.Email, "departures": []string{"06:40 North Quay", "07:10 Skerry"}})
	}))
	for pattern, h := range map[string]func(http.ResponseWriter, *http.Request, *Identity){
		"GET /identities": p.listIdentities, "PATCH /identities/{id}": p.changeIdentity, "DELETE /identities/{id}": p.removeIdentity,
		"GET /identities/{id}/keys": p.listKeys, "POST /identities/{id}/keys": p.addKey, "PATCH /identities/{id}/keys/{key}": p.changeKey, "DELETE /identities/{id}/keys/{key}": p.removeKey,
	} {
		mux.HandleFunc(pattern, p.signedIn(func(w http.ResponseWriter, r *http.Request, who *Identity) {
			if !who.Manages {
				refuse(w, http.StatusForbidden, who.Email+" may not manage the identities of this project")
				return
			}
			h(w, r, who)
		}))
	}
	return p.faulty(mux)
}

// faulty misbehaves as it was told.
func (p *Project) faulty(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.lock.Lock()
		f := p.fault
		if f.Busy > 0 {
			p.fault.Busy--
		}
		now := p.now()
		p.lock.Unlock()
		w.Header().Set("Date", now.UTC().Format(http.TimeFormat))
		switch {
		case f.Hang != nil:
			select {
			case <-f.Hang:
			case <-r.Context().Done():
			}
		case f.Busy > 0:
			w.Header().Set("Retry-After", "1")
			refuse(w, http.StatusTooManyRequests, "too many requests: come again later")
			return
		case f.Garbage:
			_, _ = io.WriteString(w, "<html>not what was asked for")
			return
		}
		if f.Lose && r.Method != http.MethodGet && r.URL.Path != "/token" {
			next.ServeHTTP(discard{http.Header{}}, r)
			panic(http.ErrAbortHandler)
		}
		next.ServeHTTP(w, r)
	})
}

type discard struct{ header http.Header }

func (d discard) Header() http.Header         { return d.header }
func (d discard) Write(b []byte) (int, error) { return len(b), nil }
func (d discard) WriteHeader(int)             {}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// refuse says why not, as problem details.
func refuse(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"status": status, "title": http.StatusText(status), "detail": detail})
}

func (p *Project) discover(w http.ResponseWriter, _ *http.Request) {
	p.lock.Lock()
	issuer := p.base
	if p.fault.Issuer != "" {
		issuer = p.fault.Issuer
	}
	p.lock.Unlock()
	answer(w, 200, map[string]any{
		"issuer": issuer, "token_endpoint": p.base + "/token", "jwks_uri": p.base + "/jwks", "response_types_supported": []string{"token"},
		"grant_types_supported": []string{grantType}, "token_endpoint_auth_methods_supported": []string{"none"},
	})
}

type keyAnswer struct {
	ID        string    `json:"id"`
	State     string    `json:"state"` // enabled, disabled, expired
	Origin    string    `json:"origin"`
	Algorithm string    `json:"algorithm"`
	PublicKey string    `json:"public_key"` // PEM
	NotBefore time.Time `json:"not_before"`
	NotAfter  time.Time `json:"not_after"`
	LastUsed  time.Time `json:"last_used,omitzero"`
}

func (p *Project) keyAnswer(k *Key) keyAnswer {
	out := keyAnswer{ID: k.ID, State: "enabled", Origin: k.Origin, NotBefore: k.NotBefore, NotAfter: k.NotAfter, LastUsed: k.used}
	switch {
	case k.Disabled:
		out.State = "disabled"
	case !p.now().Before(k.NotAfter):
		out.State = "expired"
	}
	if raw, err := x509.MarshalPKIXPublicKey(k.public); err == nil {
		out.PublicKey = string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: raw}))
	}
	out.Algorithm = string(algorithmOf(k.public))
	return out
}

func (p *Project) listIdentities(w http.ResponseWriter, r *http.Request, _ *Identity) {
	p.lock.Lock()
	defer p.lock.Unlock()
	from, _ := strconv.Atoi(r.URL.Query().Get("after"))
	from = min(max(from, 0), len(p.list))
	to := min(from+pageSize, len(p.list))
	out := map[string]any{}
	items := []map[string]any{}
	for _, v := range p.list[from:to] {
		items = append(items, map[string]any{"id": v.ID, "email": v.Email, "description": v.Description, "state": stateOf(v.Disabled)})
	}
	out["identities"] = items
	if to < len(p.list) {
		out["next"] = strconv.Itoa(to)
	}
	answer(w, 200, out)
}

func stateOf(disabled bool) string {
	if disabled {
		return "disabled"
	}
	return "enabled"
}

// of finds the identity of a request, and its key where it names one.
func (p *Project) of(w http.ResponseWriter, r *http.Request) (*Identity, *Key, bool) {
	v := p.find(r.PathValue("id"))
	if v == nil {
		refuse(w, http.StatusNotFound, "there is no identity "+r.PathValue("id"))
		return nil, nil, false
	}
	id := r.PathValue("key")
	if id == "" {
		return v, nil, true
	}
	k := v.key(id)
	if k == nil {
		refuse(w, http.StatusNotFound, v.Email+" has no key "+id)
	}
	return v, k, k != nil
}

func (p *Project) listKeys(w http.ResponseWriter, r *http.Request, _ *Identity) {
	p.lock.Lock()
	defer p.lock.Unlock()
	v, _, ok := p.of(w, r)
	if !ok {
		return
	}
	list := []keyAnswer{}
	for _, k := range v.keys {
		list = append(list, p.keyAnswer(k))
	}
	answer(w, 200, map[string]any{"keys": list})
}

// wanted is the state that a request asks for.
func wanted(w http.ResponseWriter, r *http.Request) (disabled, ok bool) {
	var in struct {
		State string `json:"state"`
	}
	if json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&in) != nil || in.State != "enabled" && in.State != "disabled" {
		refuse(w, http.StatusBadRequest, "a state is enabled or disabled")
		return false, false
	}
	return in.State == "disabled", true
}

func (p *Project) changeIdentity(w http.ResponseWriter, r *http.Request, _ *Identity) {
	disabled, ok := wanted(w, r)
	p.lock.Lock()
	defer p.lock.Unlock()
	if v, _, found := p.of2(w, r, ok); found {
		v.Disabled = disabled
		answer(w, 200, map[string]any{"id": v.ID, "email": v.Email, "state": stateOf(v.Disabled)})
	}
}

func (p *Project) of2(w http.ResponseWriter, r *http.Request, ok bool) (*Identity, *Key, bool) {
	if !ok {
		return nil, nil, false
	}
	return p.of(w, r)
}

func (p *Project) removeIdentity(w http.ResponseWriter, r *http.Request, _ *Identity) {
	p.lock.Lock()
	defer p.lock.Unlock()
	if v, _, ok := p.of(w, r); ok {
		p.list = slices.DeleteFunc(p.list, func(other *Identity) bool { return other == v })
		w.WriteHeader(http.StatusNoContent)
	}
}

func (p *Project) changeKey(w http.ResponseWriter, r *http.Request, _ *Identity) {
	disabled, ok := wanted(w, r)
	p.lock.Lock()
	defer p.lock.Unlock()
	if _, k, found := p.of2(w, r, ok); found {
		k.Disabled = disabled
		answer(w, 200, p.keyAnswer(k))
	}
}

func (p *Project) removeKey(w http.ResponseWriter, r *http.Request, _ *Identity) {
	p.lock.Lock()
	defer p.lock.Unlock()
	if v, k, ok := p.of(w, r); ok {
		v.keys = slices.DeleteFunc(v.keys, func(other *Key) bool { return other == k })
		w.WriteHeader(http.StatusNoContent)
	}
}

// addKey takes a certificate, whose end is the key's, or makes a key, whose private half is
// told this once.
func (p *Project) addKey(w http.ResponseWriter, r *http.Request, _ *Identity) {
	var in struct {
		Certificate string    `json:"certificate"`
		NotAfter    time.Time `json:"not_after"`
	}
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&in); err != nil {
		refuse(w, http.StatusBadRequest, "the request cannot be read: "+err.Error())
		return
	}
	p.lock.Lock()
	defer p.lock.Unlock()
	v, _, ok := p.of(w, r)
	if !ok {
		return
	}
	if in.Certificate != "" {
		block, _ := pem.Decode([]byte(in.Certificate))
		if block == nil {
			refuse(w, http.StatusBadRequest, "the certificate is no PEM")
			return
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			refuse(w, http.StatusBadRequest, "the certificate cannot be read: "+err.Error())
			return
		}
		p.added(w, v, c.PublicKey, "uploaded", c.NotBefore, c.NotAfter, nil)
		return
	}
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		refuse(w, http.StatusInternalServerError, err.Error())
		return
	}
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		refuse(w, http.StatusInternalServerError, err.Error())
		return
	}
	p.added(w, v, &private.PublicKey, "generated", p.now(), in.NotAfter, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
}

func (p *Project) added(w http.ResponseWriter, v *Identity, public any, origin string, from, until time.Time, private []byte) {
	switch {
	case algorithmOf(public) == "":
		refuse(w, http.StatusBadRequest, "keys are RSA of 2048 bits or more, or P-256")
		return
	case !until.IsZero() && !until.After(p.now()):
		refuse(w, http.StatusBadRequest, "the key has ended already")
		return
	}
	k, err := p.keep(v, public, origin, from, until)
	if err != nil {
		refuse(w, http.StatusConflict, err.Error())
		return
	}
	out := struct {
		keyAnswer
		File json.RawMessage `json:"file,omitempty"`
	}{keyAnswer: p.keyAnswer(k)}
	if private != nil {
		out.File = KeyFile(p.Name, k.ID, v.Email, string(private), p.base+"/token")
	}
	answer(w, http.StatusCreated, out)
}

// KeyFile is a key as programs keep it.
func KeyFile(project, key, email, private, tokens string) json.RawMessage {
	raw, err := json.MarshalIndent(map[string]string{"project_id": project, "private_key_id": key, "private_key": private, "client_email": email, "token_uri": tokens}, "", "  ")
	if err != nil {
		return nil // they are texts
	}
	return append(raw, '\n')
}

// bearer is the token of a request.
func bearer(r *http.Request) string {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return token
}
