package service

import (
	"context"
	"errors"
	"net/http"
	"time"

	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

// KeyDetail is a key pair with its doors, its holders and its custody.
type KeyDetail struct {
	Key        store.KeyPair        `json:"key"`
	Dependents []store.Dependent    `json:"dependents" nullable:"false" doc:"Entries that let its holder in (kind authorized key) and files that hold it (kind key)"`
	Custody    *store.Custody       `json:"custody,omitempty"`
	Incomplete []picture.Incomplete `json:"incomplete" nullable:"false" doc:"Systems that were not read completely: the key may be there too"`
}

type resolveKeyInput struct {
	Name string `query:"name" required:"true" maxLength:"4096" doc:"Fingerprint or its beginning, name, or key:number"`
}

// KeyWishBody is what a person asks of a key pair's rotation. The same must be
// asked of the rehearsal and of the rotation after it.
type KeyWishBody struct {
	Policy    string    `json:"policy,omitempty" enum:"stop,continue,undo" default:"undo" doc:"What to do when a step fails"`
	Restart   string    `json:"restart,omitempty" enum:"now,window,leave" default:"now" doc:"When units that read the key are restarted"`
	NotBefore time.Time `json:"not_before,omitzero" doc:"Beginning of the window"`
	NotAfter  time.Time `json:"not_after,omitzero" doc:"End of the window"`
	Patience  int       `json:"patience,omitempty" minimum:"0" maximum:"2592000" doc:"Seconds for which a system that is away is waited for before the policy decides; half an hour when it is 0"`
	KeyType   string    `json:"key_type,omitempty" doc:"Of the new key: ssh-ed25519, ecdsa-sha2-nistp256 or ssh-rsa; that of the old one by default"`
}

type takeKeyInput struct {
	AccountInput
	Body struct {
		PrivateKey Secret `json:"private_key,omitempty" doc:"In PEM; read from a file that holds it by default"`
	}
}

type rehearseKeyInput struct {
	AccountInput
	Body KeyWishBody
}

type startKeyInput struct {
	AccountInput
	Keyed
	Body struct {
		KeyWishBody
		Reason string `json:"reason" minLength:"1" maxLength:"500"`
	}
}

type overrideKeyInput struct {
	AccountInput
	Keyed
	Body struct {
		KeyWishBody
		Reason   string `json:"reason" minLength:"1" maxLength:"500"`
		Override string `json:"override" minLength:"1" maxLength:"500" doc:"Why it is started without a rehearsal that passed"`
	}
}

func (s *Service) registerKeys() {
	add(s, http.MethodGet, "/keys", "list-keys", "List key pairs: what they open, and who holds them", func(ctx context.Context, in *ListInput) (*body[store.Page[store.KeyPair]], error) {
		return answer(s.store.KeyPairs(ctx, in.query()))
	})
	add(s, http.MethodGet, "/resolve/key", "resolve-key", "Say which key pair a spelling means", func(ctx context.Context, in *resolveKeyInput) (*body[store.KeyPair], error) {
		return answer(s.app.Picture.FindKey(ctx, in.Name))
	})
	add(s, http.MethodGet, "/keys/{id}", "get-key", "Show a key pair with its doors and holders", func(ctx context.Context, in *AccountInput) (*body[KeyDetail], error) {
		return answer(s.keyDetail(ctx, in.ID))
	})
	add(s, http.MethodPost, "/keys/{id}/custody", "take-key", "Take a key pair into custody; it is proven at its doors at once", func(ctx context.Context, in *takeKeyInput) (*body[KeyDetail], error) {
		k, err := s.store.KeyPair(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if _, err := s.app.Custody.TakeKey(ctx, who(ctx), k, in.Body.PrivateKey.Value); err != nil {
			return nil, err
		}
		return answer(s.keyDetail(ctx, in.ID))
	})
	add(s, http.MethodPost, "/keys/{id}/custody/verify", "verify-key", "Sign in at every door with the sealed key", func(ctx context.Context, in *AccountInput) (*body[connect.Verdict], error) {
		k, err := s.store.KeyPair(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return answer(s.app.Custody.Verify(ctx, who(ctx), k))
	})
	add(s, http.MethodPost, "/keys/{id}/custody/release", "release-key", "End custody; the sealed keys are removed", func(ctx context.Context, in *releaseInput) (*body[KeyDetail], error) {
		k, err := s.store.KeyPair(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if err := s.app.Custody.Release(ctx, who(ctx), in.Body.Reason, k); err != nil {
			return nil, err
		}
		return answer(s.keyDetail(ctx, in.ID))
	})
	add(s, http.MethodPost, "/keys/{id}/rehearsals", "rehearse-key", "Check everything about a key pair's rotation without changing anything", func(ctx context.Context, in *rehearseKeyInput) (*body[RehearsalAnswer], error) {
		return s.rehearse(ctx, s.keyWish(in.ID, in.Body))
	})
	add(s, http.MethodGet, "/keys/{id}/rehearsals/latest", "get-key-rehearsal", "Show the latest rehearsal", func(ctx context.Context, in *AccountInput) (*body[RehearsalAnswer], error) {
		return rehearsalAnswer(s.store.LatestRehearsal(ctx, store.Credential{KeyID: in.ID}))
	})
	add(s, http.MethodPost, "/keys/{id}/rotations", "start-key-rotation", "Rotate; needs a rehearsal that passed within the hour", func(ctx context.Context, in *startKeyInput) (*body[RotationNow], error) {
		return s.startRotation(ctx, in.Key, in.Body, s.keyWish(in.ID, in.Body.KeyWishBody), in.Body.Reason)
	})
	add(s, http.MethodPost, "/keys/{id}/rotations/override", "override-key-rotation", "Ask to rotate without a rehearsal that passed; somebody else approves it", func(ctx context.Context, in *overrideKeyInput) (*body[Overridden], error) {
		return s.overrideRotation(ctx, in.Key, in.Body, s.keyWish(in.ID, in.Body.KeyWishBody), in.Body.Reason, in.Body.Override)
	})
}

func (s *Service) keyWish(id int64, b KeyWishBody) wished {
	return func(ctx context.Context) (custody.Subject, rotate.Request, error) {
		k, err := s.store.KeyPair(ctx, id)
		return k, rotate.Request{Policy: rotation.Policy(b.Policy), When: rotation.RestartPolicy(b.Restart), NotBefore: b.NotBefore, NotAfter: b.NotAfter, KeyType: b.KeyType, Patience: time.Duration(b.Patience) * time.Second}, err
	}
}

func (s *Service) keyDetail(ctx context.Context, id int64) (KeyDetail, error) {
	k, err := s.store.KeyPair(ctx, id)
	if err != nil {
		return KeyDetail{}, err
	}
	out := KeyDetail{Key: k}
	if out.Dependents, err = s.store.DependentsOfKey(ctx, k.Fingerprint); err != nil {
		return out, err
	}
	if c, err := s.store.Custody(ctx, k.Credential()); err == nil {
		out.Custody = &c
	} else if !errors.Is(err, store.ErrNotFound) {
		return out, err
	}
	out.Incomplete, err = s.app.Picture.Incomplete(ctx)
	return out, err
}
