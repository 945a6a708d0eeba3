package cloud

import (
	"cmp"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
)

// grantType is that of assertions (RFC 7523, section 2.1).
const grantType = "urn:ietf:params:oauth:grant-type:jwt-bearer"

// assertionLasts is how long what proves a key is good for.
const assertionLasts = 5 * time.Minute

// signerOf reads a private key, and how it signs.
func signerOf(private secret.Value) (crypto.Signer, jose.SignatureAlgorithm, error) {
	raw, err := ssh.ParseRawPrivateKey(private.Reveal())
	if err != nil {
		return nil, "", fmt.Errorf("the private key cannot be read: %w", err)
	}
	switch k := raw.(type) {
	case *rsa.PrivateKey:
		return k, jose.RS256, nil
	case *ecdsa.PrivateKey:
		if k.Curve == elliptic.P256() {
			return k, jose.ES256, nil
		}
		return nil, "", fmt.Errorf("a key of the curve %s is not taken: RSA of 2048 bits or more, or P-256", k.Curve.Params().Name)
	}
	return nil, "", fmt.Errorf("a key of the type %T is not taken: RSA of 2048 bits or more, or P-256", raw)
}

// given is what came of an exchange: a token, or why not.
type given struct {
	token   secret.Value
	refused string
}

// exchange proves a key and asks for a token. A refusal is told in the project's own words.
func (s *session) exchange(ctx context.Context, identity string, private secret.Value) (given, *connect.Failure) {
	assertion, err := s.assertion(identity, private)
	if err != nil {
		return given{}, s.target.Fail(connect.StageSignIn, connect.CodeStewardRefused, err.Error(), "give the private half of a key of the identity "+identity, err)
	}
	form := url.Values{"grant_type": {grantType}, "assertion": {assertion}}.Encode()
	status, raw, failure := s.send(ctx, connect.StageSignIn, http.MethodPost, s.tokens, "application/x-www-form-urlencoded", []byte(form))
	if failure != nil {
		return given{}, failure
	}
	var said struct {
		Token string `json:"access_token"`
		Type  string `json:"token_type"`
		Code  string `json:"error"`
		Words string `json:"error_description"`
	}
	wrong := json.Unmarshal(raw, &said)
	switch {
	case status == http.StatusOK && wrong == nil && said.Token != "":
		return given{token: secret.New(said.Token)}, nil
	case said.Code == "invalid_grant": // RFC 6749, section 5.2
		return given{refused: secret.Scrub(said.Code+": "+said.Words, secret.New(assertion))}, nil
	case status == http.StatusOK:
		return given{}, s.target.Fail(connect.StageSignIn, connect.CodeProtocol, "its answer has no token", "does this port speak for a cloud project?", wrong)
	case said.Code != "":
		return given{}, s.target.Fail(connect.StageSignIn, connect.CodeFailed, secret.Scrub(said.Code+": "+said.Words, secret.New(assertion)), "", nil)
	}
	return given{}, s.refusal(connect.StageSignIn, status, raw)
}

// assertion says that we are an identity, for a few minutes by the project's clock (RFC 7523,
// section 3).
func (s *session) assertion(identity string, private secret.Value) (string, error) {
	key, algorithm, err := signerOf(private)
	if err != nil {
		return "", err
	}
	id, err := keys.Number(key.Public())
	if err != nil {
		return "", err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: algorithm, Key: jose.JSONWebKey{Key: key, KeyID: id}}, (&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return "", err
	}
	nonce := make([]byte, 16)
	if _, err := rand.Read(nonce); err != nil {
		return "", err
	}
	now := s.now()
	return jwt.Signed(signer).Claims(jwt.Claims{
		Issuer: identity, Subject: identity, Audience: jwt.Audience{s.base + s.tokens}, ID: hex.EncodeToString(nonce),
		IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(assertionLasts)),
	}).Serialize()
}

// VerifyKey implements connect.Admitter: a token is asked for, and thrown away.
func (Connector) VerifyKey(ctx context.Context, target connect.Target, account connect.AccountRef, key secret.Value, _ *connect.Target) (connect.Verdict, error) {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return connect.Verdict{}, failure
	}
	defer s.close()
	name := cmp.Or(account.DN, account.StableID, account.Name)
	if _, _, err := signerOf(key); err != nil {
		return connect.Verdict{Code: connect.VerdictWrong, Words: err.Error() + ": not tried"}, nil
	}
	got, failure := s.exchange(ctx, name, key)
	switch {
	case failure != nil:
		return connect.Verdict{}, failure
	case got.refused != "":
		return connect.Verdict{Code: connect.VerdictWrong, Words: got.refused}, nil
	}
	return connect.Verdict{Accepted: true, Words: "a token was given"}, nil
}
