package cloud

import (
	"context"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// SignIn does what a program with a key file does at its start: it gets a token and reads the
// timetable with it. The error is the project's own words.
func SignIn(ctx context.Context, roots *x509.CertPool, file []byte) error {
	var key struct {
		ID      string `json:"private_key_id"`
		Private string `json:"private_key"`
		Email   string `json:"client_email"`
		Tokens  string `json:"token_uri"`
	}
	if err := json.Unmarshal(file, &key); err != nil {
		return fmt.Errorf("the key file cannot be read: %w", err)
	}
	block, _ := pem.Decode([]byte(key.Private))
	if block == nil {
		return errors.New("the key file has no private key")
	}
	private, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return fmt.Errorf("the private key cannot be read: %w", err)
	}
	algorithm := jose.ES256
	switch private.(type) {
	case *rsa.PrivateKey:
		algorithm = jose.RS256
	case *ecdsa.PrivateKey:
	default:
		return errors.New("a private key of this type is not taken")
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: algorithm, Key: jose.JSONWebKey{Key: private, KeyID: key.ID}}, (&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return err
	}
	now := time.Now()
	assertion, err := jwt.Signed(signer).Claims(jwt.Claims{Issuer: key.Email, Subject: key.Email, Audience: jwt.Audience{key.Tokens}, IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(time.Minute))}).Serialize()
	if err != nil {
		return err
	}
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}}
	defer transport.CloseIdleConnections()
	client := &http.Client{Transport: transport, Timeout: 10 * time.Second}
	said, err := ask(ctx, client, http.MethodPost, key.Tokens, "", url.Values{"grant_type": {grantType}, "assertion": {assertion}}.Encode())
	if err != nil {
		return err
	}
	token, _ := said["access_token"].(string)
	_, err = ask(ctx, client, http.MethodGet, strings.TrimSuffix(key.Tokens, "/token")+"/feeds/timetable", token, "")
	return err
}

func ask(ctx context.Context, client *http.Client, method, address, token, form string) (map[string]any, error) {
	request, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(form))
	if err != nil {
		return nil, err
	}
	if form != "" {
		request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := client.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	said := map[string]any{}
	if err := json.NewDecoder(io.LimitReader(response.Body, 1<<20)).Decode(&said); err != nil {
		return nil, fmt.Errorf("the project's answer cannot be read: %w", err)
	}
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the project refused: %v %v%v", said["error"], said["error_description"], said["detail"])
	}
	return said, nil
}
