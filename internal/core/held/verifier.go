package held

import (
	"crypto/md5" //nolint:gosec // what lists of old hold; never chosen here
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// A pooler's list of users may hold, in place of a password, what the data store keeps of
// it: a verifier. It is a copy that was derived of the value and the name of the role. One
// of the older kind (md5) can be compared with a value, and made of the next one. One of
// SCRAM (RFC 5802) has a salt that the server chose, and must be the same as the server's
// for the pooler to sign in with it: it is told, and not made here.

// PartVerifier is the part of a value that was derived of the secret.
const PartVerifier = "verifier"

var (
	md5Form   = regexp.MustCompile(`^md5[0-9a-f]{32}$`)
	scramForm = regexp.MustCompile(`^SCRAM-SHA-256\$\d+:[A-Za-z0-9+/=]+\$[A-Za-z0-9+/=]+:[A-Za-z0-9+/=]+$`)
)

// verifierValue is what is found in its place. Whoever has one of the older kind can sign
// in with it: it is as secret as the password.
type verifierValue struct {
	Role string `json:"role"`
	Text string `json:"text"`
}

const verifierPrefix = "verifier:"

func isVerifier(text string) bool { return md5Form.MatchString(text) || scramForm.MatchString(text) }

func newVerifier(role, text string) secret.Value {
	raw, _ := json.Marshal(verifierValue{role, text}) // two texts
	return secret.New(verifierPrefix + string(raw))
}

func verifierOf(v secret.Value) (verifierValue, bool) {
	rest, found := strings.CutPrefix(v.RevealString(), verifierPrefix)
	var out verifierValue
	return out, found && json.Unmarshal([]byte(rest), &out) == nil
}

// Comparable reports whether it can be found out of a value that was found whether it was
// derived of another.
func Comparable(found secret.Value) bool {
	v, is := verifierOf(found)
	return !is || md5Form.MatchString(v.Text)
}

// derive makes the verifier of a value for the same role.
func (v verifierValue) derive(value secret.Value) (string, error) {
	if !md5Form.MatchString(v.Text) {
		return "", fmt.Errorf("%w: a SCRAM verifier must be the one that the server made of the new value", layout.ErrCannotCarry)
	}
	sum := md5.Sum([]byte(value.RevealString() + v.Role)) //nolint:gosec // see above
	return "md5" + hex.EncodeToString(sum[:]), nil
}

func sameVerifier(a, b secret.Value) bool {
	va, isA := verifierOf(a)
	vb, isB := verifierOf(b)
	if isB && !isA {
		va, isA, isB, b = vb, true, false, a
	}
	if !isA || isB {
		return a.Equal(b)
	}
	text, err := va.derive(b)
	return err == nil && secret.New(text).Equal(secret.New(va.Text))
}

// listed finds the value of a list that a verifier stands as.
func listed(content []byte, place Locator) (layout.Value, error) {
	plain := place
	plain.Part = PartValue
	v, _, err := at(content, plain)
	if err == nil && !isVerifier(v.Text) {
		err = fmt.Errorf("%w: %s is no verifier", layout.ErrNotThere, place)
	}
	return v, err
}

func findVerifier(content []byte, place Locator) (Span, error) {
	v, err := listed(content, place)
	if err != nil {
		return Span{}, err
	}
	return Span{Locator: place, Start: v.Start, End: v.End, Line: v.Line, Value: newVerifier(v.Key, v.Text), Names: []string{v.Key}, Certain: true}, nil
}

// spliceVerifier puts what is derived of next in the place of what was derived of old.
func spliceVerifier(content []byte, place Locator, next secret.Value) ([]byte, error) {
	v, err := listed(content, place)
	if err != nil {
		return nil, err
	}
	text, err := verifierValue{v.Key, v.Text}.derive(next)
	if err != nil {
		return nil, err
	}
	plain := place
	plain.Part = PartValue
	return Splice(content, plain, secret.New(text))
}
