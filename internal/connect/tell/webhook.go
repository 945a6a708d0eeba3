package tell

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/notice"
)

// Format names what a webhook gets, so that a reader knows when it changes.
const Format = "moss-messages-1"

// Payload is the body of a webhook's request.
type Payload struct {
	Format    string         `json:"format"`
	ID        string         `json:"id"`
	Recipient string         `json:"recipient"`
	Made      time.Time      `json:"made"`
	From      string         `json:"from"` // where the service runs
	Events    []notice.Event `json:"events"`
}

// covered are the components that are signed, in their order.
var covered = []string{"@method", "@target-uri", "content-type", "content-digest"}

// CheckWebhook reports what is wrong with an address.
func CheckWebhook(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.Hostname() == "":
		return fmt.Errorf("address %q: write it like https://duty.larkmoor.example/moss", address)
	case u.Scheme != "https":
		return fmt.Errorf("address %q: only https, for messages name accounts and systems", address)
	case u.User != nil:
		return fmt.Errorf("address of %s: a password has no place in an address; messages are signed instead", u.Hostname())
	case u.Fragment != "":
		return fmt.Errorf("address %q: what follows # is never sent", address)
	}
	return nil
}

func (p Place) webhook(ctx context.Context, m Message) (string, error) {
	if err := CheckWebhook(p.Address); err != nil {
		return "", err
	}
	body, err := json.Marshal(Payload{Format: Format, ID: m.ID, Recipient: p.Name, Made: m.Made.UTC(), From: m.Host, Events: m.Events})
	if err != nil {
		return "", err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, p.Address, bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("User-Agent", "moss-ledger")
	p.sign(request, body, m)
	config, err := p.secured(request.URL.Hostname())
	if err != nil {
		return "", err
	}
	transport := &http.Transport{TLSClientConfig: config, DisableKeepAlives: true, ForceAttemptHTTP2: true, MaxResponseHeaderBytes: 64 << 10} // no proxy of the environment
	defer transport.CloseIdleConnections()
	// What was signed for one address is sent to no other.
	client := &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(request)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, 4096)
	said := fmt.Sprintf("HTTP %d %s", answer.StatusCode, http.StatusText(answer.StatusCode))
	switch code := answer.StatusCode; {
	case code >= 200 && code < 300:
		return said, nil
	case code == http.StatusRequestTimeout || code == http.StatusTooEarly || code == http.StatusTooManyRequests || code >= 500:
		return "", fmt.Errorf("it answered %s", said)
	case code >= 300 && code < 400:
		return "", &Refusal{"it answered " + said + ": it is elsewhere, and messages follow nowhere; change the address"}
	default:
		return "", &Refusal{"it answered " + said}
	}
}

// sign signs a request with HMAC-SHA256 (RFC 9421, section 3.3.3) over its method, address
// and type, and over the digest of its body (RFC 9530, section 2). The time of the signature
// is that of this sending: a receiver that takes nothing old takes what had to wait.
func (p Place) sign(request *http.Request, body []byte, m Message) {
	sum := sha256.Sum256(body)
	request.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	parameters := fmt.Sprintf(`("%s");created=%d;keyid="%s";alg="hmac-sha256"`, strings.Join(covered, `" "`), m.Sent.Unix(), p.Name)
	values := map[string]string{"@method": request.Method, "@target-uri": request.URL.String(), "content-type": request.Header.Get("Content-Type"), "content-digest": request.Header.Get("Content-Digest")}
	var base strings.Builder
	for _, name := range covered {
		fmt.Fprintf(&base, "\"%s\": %s\n", name, values[name])
	}
	fmt.Fprintf(&base, "\"@signature-params\": %s", parameters)
	mac := hmac.New(sha256.New, p.Secret.Reveal())
	mac.Write([]byte(base.String()))
	request.Header.Set("Signature-Input", "moss="+parameters)
	request.Header.Set("Signature", "moss=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
