package cloud

import (
	"context"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
)

type identity struct {
	ID          string `json:"id"`
	Email       string `json:"email"`
	Description string `json:"description"`
	State       string `json:"state"`
}

type identities struct {
	List []identity `json:"identities"`
	Next string     `json:"next"`
}

type key struct {
	ID        string    `json:"id"`
	State     string    `json:"state"`
	Origin    string    `json:"origin"`
	Algorithm string    `json:"algorithm"`
	PublicKey string    `json:"public_key"`
	NotBefore time.Time `json:"not_before"`
	NotAfter  time.Time `json:"not_after"`
	LastUsed  time.Time `json:"last_used"`
}

// States of keys and identities.
const (
	stateEnabled  = "enabled"
	stateDisabled = "disabled"
)

// mostPages of identities are read: an answer that always has more would never end.
const mostPages = 10_000

// each reads all identities, page by page.
func (s *session) each(ctx context.Context, see func(identity) *connect.Failure) *connect.Failure {
	after := ""
	for range mostPages {
		var page identities
		path := "/identities"
		if after != "" {
			path += "?after=" + url.QueryEscape(after)
		}
		if failure := s.call(ctx, connect.StageRead, http.MethodGet, path, nil, &page); failure != nil {
			return failure
		}
		for _, v := range page.List {
			if failure := see(v); failure != nil {
				return failure
			}
		}
		if page.Next == "" || page.Next == after {
			return nil
		}
		after = page.Next
	}
	return s.target.Fail(connect.StageRead, connect.CodeProtocol, "the list of identities does not end", "", nil)
}

func (s *session) keys(ctx context.Context, id string) ([]key, *connect.Failure) {
	var out struct {
		Keys []key `json:"keys"`
	}
	failure := s.call(ctx, connect.StageRead, http.MethodGet, "/identities/"+url.PathEscape(id)+"/keys", nil, &out)
	return out.Keys, failure
}

func (v identity) account() estate.Account {
	name, _, _ := cutLast(v.Email)
	return estate.Account{StableID: v.ID, Name: name, UPN: v.Email, DN: v.Email, Type: estate.TypeServiceIdentity, Description: v.Description, Enabled: estate.Known(v.State == stateEnabled), Locked: estate.No, NeverExpire: true}
}

func cutLast(email string) (name, domain string, found bool) {
	for i := len(email) - 1; i >= 0; i-- {
		if email[i] == '@' {
			return email[:i], email[i+1:], true
		}
	}
	return email, "", false
}

// end of a key: a project writes never as a year that nobody will live to see.
func (k key) end() expiry.End {
	if k.State == stateDisabled {
		return expiry.End{State: expiry.Ended, Why: "it is disabled"}
	}
	return expiry.At(k.NotAfter)
}

// Place is where a key is accepted, as a place on the project.
func Place(identity, key string) string { return "identities/" + identity + "/keys/" + key }

func (k key) dependent(v identity) estate.Dependent {
	name, _, _ := cutLast(v.Email)
	out := estate.Key{Type: k.Algorithm, KeyID: k.ID, Lets: name, Principal: v.Email, Comment: k.Origin}
	if expiry.At(k.NotBefore).State == expiry.Ends {
		out.Begins = k.NotBefore.UTC()
	}
	out.Used = k.LastUsed.UTC()
	if end := k.end(); end.State == expiry.Ended {
		out.Ended = end.Why
	} else if end.State == expiry.Ends {
		out.Ends = end.At
	}
	if block, _ := pem.Decode([]byte(k.PublicKey)); block != nil {
		if public, err := x509.ParsePKIXPublicKey(block.Bytes); err == nil {
			if r, ok := public.(*rsa.PublicKey); ok {
				out.Bits = r.N.BitLen()
			}
			if written, err := ssh.NewPublicKey(public); err == nil {
				out.Fingerprint, out.Type = ssh.FingerprintSHA256(written), written.Type()
			}
		}
	}
	return estate.Dependent{Kind: estate.DependentIssued, Place: Place(v.ID, k.ID), Name: name + " " + k.ID[:min(8, len(k.ID))], State: k.State, Key: &out}
}

// Visit implements connect.Visitor.
func (Connector) Visit(ctx context.Context, target connect.Target, _ connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	watch := connect.NewStopwatch()
	coverage := connect.NewCoverage()
	fail := func(f *connect.Failure) (connect.Coverage, error) {
		return coverage.Fail(watch, f, connect.ScopeAccounts, connect.ScopeKeys)
	}
	s, failure := signIn(ctx, target, watch)
	if failure != nil {
		return fail(failure)
	}
	defer s.close()
	coverage.Facts = s.known()
	if err := emit(connect.Batch{Facts: &coverage.Facts}); err != nil {
		return coverage, err
	}
	accounts, count := 0, 0
	var taker error
	failure = s.each(ctx, func(v identity) *connect.Failure {
		batch := connect.Batch{}
		if v.ID == "" || v.Email == "" {
			batch.Problems = []connect.Unread{{Stage: connect.StageRead, Place: "an identity", What: fmt.Sprintf("it has no number or no name (%q, %q)", v.ID, v.Email)}}
		} else {
			list, failure := s.keys(ctx, v.ID)
			if failure != nil {
				return failure
			}
			account := v.account()
			for _, k := range list {
				batch.Dependents = append(batch.Dependents, k.dependent(v))
				if k.LastUsed.After(account.LastLogOn) {
					account.LastLogOn = k.LastUsed.UTC()
				}
			}
			batch.Accounts = []estate.Account{account}
			accounts, count = accounts+1, count+len(list)
		}
		if taker = emit(batch); taker != nil {
			return target.Fail(connect.StageRead, connect.CodeFailed, taker.Error(), "", taker)
		}
		return nil
	})
	coverage.Counts[connect.ScopeAccounts], coverage.Counts[connect.ScopeKeys] = accounts, count
	if taker != nil {
		return coverage, taker
	}
	if failure != nil {
		return fail(failure)
	}
	for _, scope := range []string{connect.ScopeAccounts, connect.ScopeKeys} {
		coverage.Complete[scope] = true
	}
	watch.OK(connect.StageRead, fmt.Sprintf("%d identities, %d keys", accounts, count))
	coverage.Stages = watch.Stages()
	return coverage, nil
}
