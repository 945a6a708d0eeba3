package acme

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// said is a request that was signed as it must be.
type said struct {
	account *account         // whose key signed it; nil where it is a key of nobody known
	key     *jose.JSONWebKey // that signed it, where the request has it in it
	payload []byte
}

func (s *Server) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /directory", s.directory)
	mux.HandleFunc("HEAD /nonce", func(http.ResponseWriter, *http.Request) {})
	mux.HandleFunc("GET /nonce", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	mux.HandleFunc("POST /account", s.signed(s.newAccount))
	for pattern, h := range map[string]func(http.ResponseWriter, *http.Request, said){
		"POST /account/{id}": s.showAccount, "POST /order": s.newOrder, "POST /order/{id}": s.showOrder, "POST /order/{id}/finalize": s.finalize,
		"POST /authorization/{id}": s.showAuthorization, "POST /challenge/{id}": s.challenge, "POST /certificate/{id}": s.certificate, "POST /revoke": s.revokeCertificate,
	} {
		mux.HandleFunc(pattern, s.signed(func(w http.ResponseWriter, r *http.Request, is said) {
			if is.account == nil {
				problem(w, http.StatusBadRequest, "accountDoesNotExist", "the request is signed by no account")
				return
			}
			if is.account.status != "valid" {
				problem(w, http.StatusForbidden, "unauthorized", "the account is "+is.account.status)
				return
			}
			h(w, r, is)
		}))
	}
	return s.faulty(mux)
}

// faulty misbehaves as it was told.
func (s *Server) faulty(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.lock.Lock()
		f := s.fault
		if f.Busy > 0 {
			s.fault.Busy--
		}
		nonce := fresh()
		s.nonces[nonce] = true
		s.lock.Unlock()
		w.Header().Set("Replay-Nonce", nonce)
		w.Header().Set("Cache-Control", "no-store")
		switch {
		case f.Down:
			problem(w, http.StatusServiceUnavailable, "serverInternal", "down for maintenance")
		case f.Busy > 0:
			w.Header().Set("Retry-After", "1")
			problem(w, http.StatusTooManyRequests, "rateLimited", "too many requests: come again later")
		case f.Garbage:
			_, _ = io.WriteString(w, "<html>not what was asked for")
		default:
			next.ServeHTTP(w, r)
		}
	})
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func problem(w http.ResponseWriter, status int, kind, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"type": "urn:ietf:params:acme:error:" + kind, "detail": detail, "status": status})
}

func (s *Server) directory(w http.ResponseWriter, _ *http.Request) {
	s.lock.Lock()
	orders := s.base + "/order"
	if s.fault.Away != "" {
		orders = s.fault.Away
	}
	s.lock.Unlock()
	answer(w, 200, map[string]any{
		"newNonce": s.base + "/nonce", "newAccount": s.base + "/account", "newOrder": orders, "revokeCert": s.base + "/revoke",
		"meta": map[string]any{"termsOfService": s.base + "/terms"},
	})
}

// signed reads a request as JSON Web Signature (RFC 8555, section 6.2).
func (s *Server) signed(next func(http.ResponseWriter, *http.Request, said)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		raw, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
		if err != nil || r.Header.Get("Content-Type") != "application/jose+json" {
			problem(w, http.StatusUnsupportedMediaType, "malformed", "a request is a JSON Web Signature")
			return
		}
		jws, err := jose.ParseSignedJSON(string(raw), []jose.SignatureAlgorithm{jose.RS256, jose.ES256, jose.ES384, jose.ES512})
		if err != nil || len(jws.Signatures) != 1 {
			problem(w, http.StatusBadRequest, "malformed", "it cannot be read, or is not signed once")
			return
		}
		s.lock.Lock()
		defer s.lock.Unlock()
		head := jws.Signatures[0].Protected
		good := s.nonces[head.Nonce]
		delete(s.nonces, head.Nonce)
		if s.fault.Nonces > 0 {
			s.fault.Nonces--
			good = false
		}
		if !good {
			problem(w, http.StatusBadRequest, "badNonce", "the nonce was not given, or was used before")
			return
		}
		if at, _ := head.ExtraHeaders["url"].(string); at != s.base+r.URL.Path {
			problem(w, http.StatusForbidden, "unauthorized", fmt.Sprintf("it is signed for %q", at))
			return
		}
		is := said{account: s.accounts[head.KeyID], key: head.JSONWebKey}
		key := head.JSONWebKey
		switch {
		case head.KeyID != "" && key != nil, head.KeyID == "" && key == nil:
			problem(w, http.StatusBadRequest, "malformed", "it names an account, or has a key: one of the two")
			return
		case head.KeyID != "" && is.account == nil:
			problem(w, http.StatusBadRequest, "accountDoesNotExist", "there is no account "+head.KeyID)
			return
		case is.account != nil:
			key = &is.account.key
		}
		if is.payload, err = jws.Verify(key); err != nil {
			problem(w, http.StatusForbidden, "unauthorized", "the signature is not that of the key")
			return
		}
		next(w, r, is)
	}
}

func (s *Server) newAccount(w http.ResponseWriter, _ *http.Request, is said) {
	var in struct {
		Only   bool `json:"onlyReturnExisting"`
		Agreed bool `json:"termsOfServiceAgreed"`
	}
	if is.key == nil || json.Unmarshal(is.payload, &in) != nil {
		problem(w, http.StatusBadRequest, "malformed", "an account is asked for with its key")
		return
	}
	for _, a := range s.accounts {
		if same(a.key, *is.key) {
			w.Header().Set("Location", a.url)
			answer(w, 200, map[string]any{"status": a.status})
			return
		}
	}
	switch {
	case in.Only:
		problem(w, http.StatusBadRequest, "accountDoesNotExist", "there is no account of this key")
	case !s.open:
		problem(w, http.StatusForbidden, "externalAccountRequired", "accounts are made by the people of the authority")
	case !in.Agreed:
		problem(w, http.StatusForbidden, "userActionRequired", "agree to the terms first")
	default:
		a := s.add(*is.key, nil)
		w.Header().Set("Location", a.url)
		answer(w, 201, map[string]any{"status": a.status})
	}
}

func same(a, b jose.JSONWebKey) bool {
	x, errX := a.Thumbprint(crypto.SHA256)
	y, errY := b.Thumbprint(crypto.SHA256)
	return errX == nil && errY == nil && bytes.Equal(x, y)
}

func (s *Server) showAccount(w http.ResponseWriter, _ *http.Request, is said) {
	answer(w, 200, map[string]any{"status": is.account.status})
}

type identifier struct {
	Type  string `json:"type"`
	Value string `json:"value"`
}

func (s *Server) newOrder(w http.ResponseWriter, _ *http.Request, is said) {
	var in struct {
		Identifiers []identifier `json:"identifiers"`
	}
	if json.Unmarshal(is.payload, &in) != nil || len(in.Identifiers) == 0 {
		problem(w, http.StatusBadRequest, "malformed", "an order has names")
		return
	}
	o := &order{url: s.base + "/order/" + fresh(), status: "ready", of: is.account}
	for _, id := range in.Identifiers {
		if !strings.HasSuffix(id.Value, ".example") && id.Type == "dns" || strings.HasPrefix(id.Value, "*.") {
			problem(w, http.StatusForbidden, "rejectedIdentifier", "no certificates are issued about "+id.Value)
			return
		}
		a := &authorization{url: s.base + "/authorization/" + fresh(), name: id.Value, status: "pending", token: fresh() + fresh(), of: is.account}
		if s.known(is.account, id.Value) {
			a.status = "valid"
		} else {
			o.status = "pending"
		}
		s.asks[a.url] = a
		o.names, o.needs = append(o.names, id.Value), append(o.needs, a)
	}
	s.orders[o.url] = o
	w.Header().Set("Location", o.url)
	answer(w, 201, s.view(o))
}

func (s *Server) view(o *order) map[string]any {
	names, needs := []identifier{}, []string{}
	valid := true
	var why any
	for i, a := range o.needs {
		names, needs = append(names, identifier{typeOf(o.names[i]), o.names[i]}), append(needs, a.url)
		valid = valid && a.status == "valid"
		if a.status == "invalid" {
			o.status = "invalid"
			why = map[string]string{"type": "urn:ietf:params:acme:error:unauthorized", "detail": a.why}
		}
	}
	if o.status == "pending" && valid {
		o.status = "ready"
	}
	out := map[string]any{"status": o.status, "identifiers": names, "authorizations": needs, "finalize": o.url + "/finalize", "expires": time.Now().Add(time.Hour).UTC().Format(time.RFC3339)}
	if o.certificate != "" {
		out["certificate"] = strings.Replace(o.url, "/order/", "/certificate/", 1)
	}
	if why != nil {
		out["error"] = why
	}
	return out
}

func typeOf(name string) string {
	if strings.HasSuffix(name, ".example") {
		return "dns"
	}
	return "ip"
}

// mine finds an order of an account.
func (s *Server) mine(w http.ResponseWriter, url string, is said) *order {
	o := s.orders[url]
	if o == nil || o.of != is.account {
		problem(w, http.StatusNotFound, "malformed", "there is no such order of this account")
		return nil
	}
	return o
}

func (s *Server) showOrder(w http.ResponseWriter, r *http.Request, is said) {
	if o := s.mine(w, s.base+r.URL.Path, is); o != nil {
		w.Header().Set("Location", o.url)
		answer(w, 200, s.view(o))
	}
}

func (a *authorization) view(base string) map[string]any {
	one := map[string]any{"type": "http-01", "url": strings.Replace(a.url, "/authorization/", "/challenge/", 1), "token": a.token, "status": a.status}
	if a.why != "" {
		one["error"] = map[string]string{"type": "urn:ietf:params:acme:error:unauthorized", "detail": a.why}
	}
	other := map[string]any{"type": "dns-01", "url": base + "/challenge/none", "token": a.token, "status": a.status}
	return map[string]any{"identifier": identifier{typeOf(a.name), a.name}, "status": a.status, "challenges": []any{other, one}}
}

func (s *Server) showAuthorization(w http.ResponseWriter, r *http.Request, is said) {
	a := s.asks[s.base+r.URL.Path]
	if a == nil || a.of != is.account {
		problem(w, http.StatusNotFound, "malformed", "there is no such authorization of this account")
		return
	}
	answer(w, 200, a.view(s.base))
}

// challenge looks for the answer, as soon as it is told that it is there.
func (s *Server) challenge(w http.ResponseWriter, r *http.Request, is said) {
	a := s.asks[s.base+strings.Replace(r.URL.Path, "/challenge/", "/authorization/", 1)]
	if a == nil || a.of != is.account {
		problem(w, http.StatusNotFound, "malformed", "there is no such challenge of this account")
		return
	}
	if a.status == "pending" && !s.fault.Stuck {
		s.asked++
		s.lock.Unlock() // whoever answers may ask something here
		err := s.believes(r.Context(), a)
		s.lock.Lock()
		if a.status = "valid"; err != nil {
			a.status, a.why = "invalid", err.Error()
		}
	}
	answer(w, 200, a.view(s.base)["challenges"].([]any)[1])
}

func (s *Server) finalize(w http.ResponseWriter, r *http.Request, is said) {
	o := s.mine(w, s.base+strings.TrimSuffix(r.URL.Path, "/finalize"), is)
	if o == nil {
		return
	}
	if s.view(o); o.status != "ready" {
		problem(w, http.StatusForbidden, "orderNotReady", "the order is "+o.status)
		return
	}
	var in struct {
		Request string `json:"csr"`
	}
	raw := []byte(nil)
	err := json.Unmarshal(is.payload, &in)
	if err == nil {
		raw, err = base64.RawURLEncoding.DecodeString(in.Request)
	}
	request, wrong := x509.ParseCertificateRequest(raw)
	if err != nil || wrong != nil || request.CheckSignature() != nil {
		problem(w, http.StatusBadRequest, "badCSR", "the request cannot be read, or is not signed by its key")
		return
	}
	names := slices.Clone(request.DNSNames)
	for _, ip := range request.IPAddresses {
		names = append(names, ip.String())
	}
	if cn := request.Subject.CommonName; cn != "" && !slices.Contains(names, cn) {
		names = append(names, cn)
	}
	ordered := slices.Clone(o.names)
	slices.Sort(names)
	slices.Sort(ordered)
	if !slices.EqualFunc(names, ordered, strings.EqualFold) {
		problem(w, http.StatusBadRequest, "badCSR", fmt.Sprintf("the request is about %v, and %v was ordered", names, ordered))
		return
	}
	certified, from, lasts := o.names, time.Now().Add(-time.Minute), s.fault.Lasts
	if lasts == 0 {
		lasts = 90 * 24 * time.Hour
	}
	if s.fault.Other != "" {
		certified = []string{s.fault.Other}
	}
	if s.fault.Ended {
		from, lasts = from.Add(-48*time.Hour), time.Hour
	}
	if o.certificate, err = s.authority.Certify(request.PublicKey, from, from.Add(lasts), certified...); err != nil {
		problem(w, http.StatusInternalServerError, "serverInternal", err.Error())
		return
	}
	o.status = "valid"
	s.issued++
	if s.fault.Lose {
		panic(http.ErrAbortHandler)
	}
	w.Header().Set("Location", o.url)
	answer(w, 200, s.view(o))
}

func (s *Server) certificate(w http.ResponseWriter, r *http.Request, is said) {
	o := s.mine(w, s.base+strings.Replace(r.URL.Path, "/certificate/", "/order/", 1), is)
	if o == nil {
		return
	}
	w.Header().Set("Content-Type", "application/pem-certificate-chain")
	_, _ = io.WriteString(w, o.certificate)
}

func (s *Server) revokeCertificate(w http.ResponseWriter, _ *http.Request, is said) {
	var in struct {
		Certificate string `json:"certificate"`
	}
	raw := []byte(nil)
	err := json.Unmarshal(is.payload, &in)
	if err == nil {
		raw, err = base64.RawURLEncoding.DecodeString(in.Certificate)
	}
	if err != nil {
		problem(w, http.StatusBadRequest, "malformed", "it has no certificate")
		return
	}
	if slices.Contains(s.revoked, in.Certificate) {
		problem(w, http.StatusBadRequest, "alreadyRevoked", "it was taken back before")
		return
	}
	for _, o := range s.orders {
		if block, _ := pem.Decode([]byte(o.certificate)); block != nil && bytes.Equal(block.Bytes, raw) && o.of == is.account {
			s.revoked = append(s.revoked, in.Certificate)
			return
		}
	}
	problem(w, http.StatusForbidden, "unauthorized", "the account did not order this certificate")
}
