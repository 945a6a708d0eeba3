package service

import (
	"context"
	"net/http"
	"time"

	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/withheld"
)

// CredentialDetail is a credential with where it is accepted and held.
type CredentialDetail struct {
	Credential records.Credential   `json:"credential"`
	Dependents []records.Dependent  `json:"dependents" nullable:"false" doc:"Of a key: entries that let its holder in (kind authorized key) and files that hold it (kind key). Those of a password are its account's"`
	Incomplete []picture.Incomplete `json:"incomplete" nullable:"false" doc:"Systems that were not read completely: it may be there too"`
	Findings   []records.Finding    `json:"findings" nullable:"false" doc:"Open ones about it, and of a key about what holds it or lets its holder in"`
}

// CredentialInput names a credential by number.
type CredentialInput struct {
	ID int64 `path:"id" minimum:"1"`
}

type resolveCredentialInput struct {
	Name string `query:"name" required:"true" maxLength:"4096" doc:"An account in any spelling, whose password is meant; the fingerprint of a key or its beginning, or its name; credential:number"`
}

type noteCredentialInput struct {
	Body struct {
		Kind    string            `json:"kind" enum:"password"`
		Account records.AccountID `json:"account" minimum:"1" doc:"Whose it is"`
	}
}

type takeInput struct {
	CredentialInput
	Body struct {
		Value  withheld.Secret `json:"value,omitempty" doc:"The known password, or the private half of a key in PEM, which is read from a file that holds it by default; it is proven at once"`
		Reset  bool            `json:"reset,omitempty" doc:"Of a password: set a new one with the authority's steward instead; what still holds the old one breaks"`
		Reason string          `json:"reason,omitempty" maxLength:"500"`
	}
}

type releaseInput struct {
	CredentialInput
	Body struct {
		Reason string `json:"reason" minLength:"1" maxLength:"500"`
	}
}

// VerifiedAll counts verdicts.
type VerifiedAll struct {
	Accepted int `json:"accepted"`
	Refused  int `json:"refused"`
	Unclear  int `json:"unclear" doc:"Where it is accepted could not be asked"`
}

func (s *Service) registerCredentials() {
	add(s, http.MethodGet, "/credentials", "list-credentials", "List credentials: where they are accepted and held, and what is kept of them", func(ctx context.Context, in *ListInput) (*body[records.Page[records.Credential]], error) {
		return answer(s.store.Credentials(ctx, in.Query()))
	})
	add(s, http.MethodPost, "/credentials", "note-credential", "Note the password of an account as a credential; the one that is there is returned", func(ctx context.Context, in *noteCredentialInput) (*body[CredentialDetail], error) {
		c, err := s.app.Custody.Note(ctx, who(ctx), in.Body.Account)
		if err != nil {
			return nil, err
		}
		return answer(s.credentialDetail(ctx, c.ID))
	})
	add(s, http.MethodGet, "/resolve/credential", "resolve-credential", "Say which credential a spelling means; the password of an account that nobody noted yet has the number 0", func(ctx context.Context, in *resolveCredentialInput) (*body[records.Credential], error) {
		return answer(s.app.Picture.FindCredential(ctx, in.Name))
	})
	add(s, http.MethodGet, "/credentials/{id}", "get-credential", "Show a credential with where it is accepted and held", func(ctx context.Context, in *CredentialInput) (*body[CredentialDetail], error) {
		return answer(s.credentialDetail(ctx, records.CredentialID(in.ID)))
	})
	add(s, http.MethodPost, "/credentials/{id}/custody", "take-custody", "Take a credential into custody; it is proven where it is accepted at once", s.takeCustody)
	add(s, http.MethodPost, "/credentials/{id}/custody/verify", "verify-custody", "Prove the sealed value where it is accepted", func(ctx context.Context, in *CredentialInput) (*body[connect.Verdict], error) {
		c, err := s.store.Credential(ctx, records.CredentialID(in.ID))
		if err != nil {
			return nil, err
		}
		return answer(s.app.Custody.Verify(ctx, who(ctx), c))
	})
	add(s, http.MethodPost, "/custody/verify", "verify-all-custody", "Prove every sealed value", func(ctx context.Context, _ *empty) (*body[VerifiedAll], error) {
		accepted, refused, unclear, err := s.app.Custody.VerifyAll(ctx, who(ctx))
		return answer(VerifiedAll{accepted, refused, unclear}, err)
	})
	add(s, http.MethodPost, "/credentials/{id}/custody/release", "release-custody", "End custody; the sealed values are removed", func(ctx context.Context, in *releaseInput) (*body[CredentialDetail], error) {
		c, err := s.store.Credential(ctx, records.CredentialID(in.ID))
		if err != nil {
			return nil, err
		}
		if err := s.app.Custody.Release(ctx, who(ctx), in.Body.Reason, c); err != nil {
			return nil, err
		}
		return answer(s.credentialDetail(ctx, c.ID))
	})
	add(s, http.MethodPost, "/credentials/{id}/rehearsals", "rehearse", "Check everything about a rotation without changing anything", func(ctx context.Context, in *rehearseInput) (*body[RehearsalAnswer], error) {
		c, request, err := s.requested(ctx, in.ID, in.Body)
		if err != nil {
			return nil, err
		}
		return rehearsalAnswer(s.app.Rotations.Rehearse(ctx, who(ctx), c, request))
	})
	add(s, http.MethodGet, "/credentials/{id}/rehearsals/latest", "get-rehearsal", "Show the latest rehearsal", func(ctx context.Context, in *CredentialInput) (*body[RehearsalAnswer], error) {
		return rehearsalAnswer(s.store.LatestRehearsal(ctx, records.CredentialID(in.ID)))
	})
	add(s, http.MethodPost, "/credentials/{id}/rotations", "start-rotation", "Rotate; needs a rehearsal that passed within the hour", s.startRotation)
	add(s, http.MethodPost, "/credentials/{id}/rotations/override", "override-rotation", "Ask to rotate without a rehearsal that passed; somebody else approves it", s.overrideRotation)
}

func (s *Service) takeCustody(ctx context.Context, in *takeInput) (*body[CredentialDetail], error) {
	c, err := s.store.Credential(ctx, records.CredentialID(in.ID))
	if err != nil {
		return nil, err
	}
	if in.Body.Reset {
		err = s.app.Custody.Reset(ctx, who(ctx), in.Body.Reason, c)
	} else {
		_, err = s.app.Custody.Take(ctx, who(ctx), c, in.Body.Value.Value)
	}
	if err != nil {
		return nil, err
	}
	return answer(s.credentialDetail(ctx, c.ID))
}

func (s *Service) credentialDetail(ctx context.Context, id records.CredentialID) (CredentialDetail, error) {
	c, err := s.store.Credential(ctx, id)
	if err != nil {
		return CredentialDetail{}, err
	}
	out := CredentialDetail{Credential: c, Dependents: []records.Dependent{}}
	if c.Fingerprint != "" {
		if out.Dependents, err = s.store.DependentsOfKey(ctx, c.Fingerprint); err != nil {
			return out, err
		}
	}
	places := make([]records.DependentID, 0, len(out.Dependents))
	for _, d := range out.Dependents {
		places = append(places, d.ID)
	}
	if out.Findings, err = s.store.FindingsAbout(ctx, id, places); err != nil {
		return out, err
	}
	out.Incomplete, err = s.app.Picture.Incomplete(ctx)
	return out, err
}

// requested looks up what shall be rotated, and how.
func (s *Service) requested(ctx context.Context, id int64, b RotationRequest) (records.Credential, planning.Request, error) {
	request := planning.Request{
		OnFailure: rotation.OnFailure(b.OnFailure), When: rotation.RestartPolicy(b.Restart), NotBefore: b.NotBefore, NotAfter: b.NotAfter, Assign: b.Assign, Start: b.Start,
		Patience: time.Duration(b.Patience) * time.Second, Type: b.Type, Lasts: time.Duration(b.LastsDays) * 24 * time.Hour, Authority: b.Authority, NoReload: b.NoReload, NoAcceptors: b.NoAcceptors, StopFirst: b.StopFirst,
		Length: b.Length, Without: b.Without, AnyTime: b.AnyTime, AtWindowEnd: rotation.WindowEnd(b.AtWindowEnd), FirstAlone: b.FirstAlone, Way: b.Way,
	}
	c, err := s.store.Credential(ctx, records.CredentialID(id))
	if err != nil {
		return c, request, err
	}
	return c, request, s.chooseDependents(ctx, c, b, &request)
}
