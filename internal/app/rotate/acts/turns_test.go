package acts

import (
	"context"
	"crypto/rand"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// shelf holds sealed values, and gives none out while it fails.
type shelf struct {
	sealed.Store
	of   map[records.CredentialID][]records.Secret
	fail error
}

func (s *shelf) Secrets(_ context.Context, id records.CredentialID) ([]records.Secret, error) {
	return s.of[id], s.fail
}

func named(id records.AccountID, name string) (a records.Account) {
	a.ID, a.Name = id, name
	return a
}

// Of two accounts that take turns, a value is for the one that it was sealed for. While that
// cannot be read nobody is asked: the other one refuses it, which would look like a proof
// that the account rests.
func TestWhoseAValueIs(t *testing.T) {
	sealer, err := secret.NewSealer(make([]byte, secret.KeySize), rand.Reader)
	require.NoError(t, err)
	r := records.Rotation{ID: 7, CredentialID: 1, OldSecret: 11, Plan: rotation.Plan{Turn: &rotation.Successor{AccountID: "2", CredentialID: "2", Account: "svc-b", Credential: "svc-b"}}}
	keep := func(id records.SecretID, of records.CredentialID, rotation records.RotationID, text string) records.Secret {
		s := records.Secret{ID: id, CredentialID: of, RotationID: rotation, State: records.SecretCurrent}
		s.Sealed, err = sealer.Seal(s.Binding(), secret.New(text))
		require.NoError(t, err)
		return s
	}
	store := &shelf{of: map[records.CredentialID][]records.Secret{1: {keep(11, 1, 0, "old-value-of-a")}, 2: {keep(12, 2, 7, "new-value-of-b")}}}
	base := &app.Base{Sealer: sealer}
	h := &Hands{Rotation: r, Account: named(1, "svc-a"), Next: named(2, "svc-b"), acts: &Acts{base: base, sealed: sealed.New(base, store)}}
	for text, name := range map[string]string{"old-value-of-a": "svc-a", "new-value-of-b": "svc-b", "another": "svc-a"} {
		who, err := h.whose(t.Context(), secret.New(text))
		require.NoError(t, err)
		assert.Equal(t, name, who.Name, text)
	}
	store.fail = errors.New("disk I/O error")
	_, err = h.whose(t.Context(), secret.New("old-value-of-a"))
	require.ErrorIs(t, err, store.fail, "nobody is guessed")
	h.Next = records.Account{}
	who, err := h.whose(t.Context(), secret.New("old-value-of-a"))
	require.NoError(t, err, "one account alone needs no value to be told")
	assert.Equal(t, "svc-a", who.Name)
}
