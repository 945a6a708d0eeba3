package cloud

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

const (
	grantType  = "urn:ietf:params:oauth:grant-type:jwt-bearer" // RFC 7523, section 2.1
	longest    = time.Hour                                     // an assertion is good for at most
	leeway     = time.Minute                                   // that clocks may differ by
	tokenLasts = 10 * time.Minute
)

// algorithmOf is how a key signs; "" for one that is not taken.
func algorithmOf(public crypto.PublicKey) jose.SignatureAlgorithm {
	switch k := public.(type) {
	case *rsa.PublicKey:
		if k.N.BitLen() >= 2048 {
			return jose.RS256
		}
	case *ecdsa.PublicKey:
		if k.Curve == elliptic.P256() {
			return jose.ES256
		}
	}
	return ""
}

// token exchanges an assertion (RFC 7523, sections 2.1 and 3).
func (p *Project) token(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 1<<16)
	if err := r.ParseForm(); err != nil {
		oauth(w, "invalid_request", "the request cannot be read")
		return
	}
	if r.PostForm.Get("grant_type") != grantType {
		oauth(w, "unsupported_grant_type", "only "+grantType+" is taken")
		return
	}
	p.lock.Lock()
	defer p.lock.Unlock()
	v, why := p.proven(r.PostForm.Get("assertion"))
	if why != "" {
		oauth(w, "invalid_grant", why)
		return
	}
	made, err := p.tokenOf(v)
	if err != nil {
		oauth(w, "invalid_request", err.Error())
		return
	}
	p.programs[v.Email]++
	w.Header().Set("Cache-Control", "no-store")
	answer(w, 200, map[string]any{"access_token": made, "token_type": "Bearer", "expires_in": int(tokenLasts.Seconds())})
}

func (p *Project) tokenOf(v *Identity) (string, error) {
	now := p.now()
	return jwt.Signed(p.signer).Claims(jwt.Claims{Issuer: p.base, Subject: v.ID, Audience: jwt.Audience{p.base}, IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(tokenLasts))}).Serialize()
}

// TokenFor is one for an identity, without a proof.
func (p *Project) TokenFor(identity string) (string, error) {
	p.lock.Lock()
	defer p.lock.Unlock()
	v := p.find(identity)
	if v == nil {
		return "", fmt.Errorf("there is no identity %s", identity)
	}
	return p.tokenOf(v)
}

// oauth says why not (RFC 6749, section 5.2).
func oauth(w http.ResponseWriter, code, words string) {
	answer(w, http.StatusBadRequest, map[string]string{"error": code, "error_description": words})
}

// proven finds whose assertion it is; why not, otherwise. The caller holds the lock.
func (p *Project) proven(assertion string) (*Identity, string) {
	parsed, err := jwt.ParseSigned(assertion, []jose.SignatureAlgorithm{jose.RS256, jose.ES256})
	if err != nil || len(parsed.Headers) != 1 {
		return nil, "the assertion is no signed JWT"
	}
	var said jwt.Claims
	if err := parsed.UnsafeClaimsWithoutVerification(&said); err != nil {
		return nil, "the assertion's claims cannot be read"
	}
	v := p.find(said.Issuer)
	id := parsed.Headers[0].KeyID
	if v == nil {
		return nil, "there is no identity " + said.Issuer
	}
	k := v.key(id)
	if k == nil {
		return nil, fmt.Sprintf("%s has no key %s", v.Email, id)
	}
	var claims jwt.Claims
	if err := parsed.Claims(k.public, &claims); err != nil {
		return nil, "the signature of the assertion is not that of the key " + id
	}
	now := p.now()
	switch {
	case claims.Subject != claims.Issuer:
		return nil, "the assertion is about somebody else than who made it"
	case !slices.Contains(claims.Audience, p.base+"/token") && !slices.Contains(claims.Audience, p.base):
		return nil, "the assertion is for somebody else"
	case claims.Expiry == nil || claims.IssuedAt == nil:
		return nil, "the assertion does not say when it was made and when it ends"
	case now.After(claims.Expiry.Time().Add(leeway)):
		return nil, fmt.Sprintf("the assertion ended at %s, and it is %s here", claims.Expiry.Time().UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339))
	case claims.IssuedAt.Time().After(now.Add(leeway)):
		return nil, fmt.Sprintf("the assertion was made at %s, and it is %s here", claims.IssuedAt.Time().UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339))
	case claims.Expiry.Time().After(now.Add(longest + leeway)):
		return nil, "the assertion is good for longer than an hour"
	case v.Disabled:
		return nil, "the identity " + v.Email + " is disabled"
	case k.Disabled:
		return nil, "the key " + id + " is disabled"
	case now.Before(k.NotBefore):
		return nil, fmt.Sprintf("the key %s is good from %s on", id, k.NotBefore.Format(time.RFC3339))
	case !now.Before(k.NotAfter):
		return nil, fmt.Sprintf("the key %s expired at %s", id, k.NotAfter.Format(time.RFC3339))
	}
	k.used = now
	return v, ""
}

// signedIn has somebody with a token do something.
func (p *Project) signedIn(next func(http.ResponseWriter, *http.Request, *Identity)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		who, why := p.holder(bearer(r))
		if why != "" {
			w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
			refuse(w, http.StatusUnauthorized, why)
			return
		}
		next(w, r, &who)
	}
}

// holder is whose token it is.
func (p *Project) holder(token string) (Identity, string) {
	parsed, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil {
		return Identity{}, "no token of this project was given"
	}
	var claims jwt.Claims
	if err := parsed.Claims(p.public.Key, &claims); err != nil {
		return Identity{}, "the token was not made here"
	}
	p.lock.Lock()
	defer p.lock.Unlock()
	if err := claims.ValidateWithLeeway(jwt.Expected{Issuer: p.base, Time: p.now()}, 0); err != nil {
		return Identity{}, "the token has ended"
	}
	v := p.find(claims.Subject)
	if v == nil || v.Disabled {
		return Identity{}, "the identity of the token is gone, or disabled"
	}
	return *v, ""
}
