package connect

import (
	"context"

	"mossledger.example/moss/internal/core/estate"
)

// Challenge is what has to be answered for a name, so that an authority knows who asks for a
// certificate about it: over HTTP, on port 80 of that name, under
// /.well-known/acme-challenge/TOKEN (RFC 8555, section 8.3). None of it is secret.
type Challenge struct {
	Name   string `json:"name"`
	Token  string `json:"token"`
	Answer string `json:"answer"`
}

// Order is a certificate that was ordered.
type Order struct {
	URL        string      `json:"url"` // by which the authority knows it
	Challenges []Challenge `json:"challenges,omitempty"`
}

// Certifier is an authority that issues certificates. Order asks for one, and tells what has
// to be answered; Issue has the answers looked at, gives the request (RFC 2986, DER), and
// returns the certificate with those that signed it, in PEM. Between the two the caller sees to
// it that the answers are there. What was ordered and is not asked for again ends by itself.
//
// Revoke has a certificate taken back (RFC 8555, section 7.6). One that is revoked already, or
// has ended, is no failure.
type Certifier interface {
	Order(ctx context.Context, target Target, names []string) (Order, error)
	Issue(ctx context.Context, target Target, order Order, request []byte) (chain string, err error)
	Revoke(ctx context.Context, target Target, chain string) error
}

// Shower tells what a port of a host shows to clients now.
type Shower interface {
	// Shown is the certificate behind a port, by the place that a visit gave it.
	Shown(ctx context.Context, target Target, place string) (estate.Key, error)
}

// Order implements Certifier.
func (Cannot) Order(_ context.Context, t Target, _ []string) (Order, error) {
	return Order{}, cannot(t, StageChange)
}

// Issue implements Certifier.
func (Cannot) Issue(_ context.Context, t Target, _ Order, _ []byte) (string, error) {
	return "", cannot(t, StageChange)
}

// Revoke implements Certifier.
func (Cannot) Revoke(_ context.Context, t Target, _ string) error {
	return cannot(t, StageChange)
}

// Shown implements Shower.
func (Cannot) Shown(_ context.Context, t Target, _ string) (estate.Key, error) {
	return estate.Key{}, cannot(t, StageProve)
}
