package service

import (
	"fmt"
	"log/slog"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/service/withheld"
)

// Secrets are taken out of bodies before they are decoded, and arrive as they
// were meant: whatever their spelling in JSON.
func TestWithheldSecretsArrive(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	admin := r.signIn("ines")
	for i, c := range []struct{ made, used string }{
		{`lantern-mosaic-41-quay`, `lantern-mosaic-41-quay`},
		{`lantern-\"mosaic\"\n41-quay`, "lantern-\\u0022mosaic\\u0022\\u000a41-quay"},
		{`lantérn-🦭-mosaic-41`, `lant\u00e9rn-\ud83e\uddad-mosaic-41`},
		{`withheld:0-and-more-of-it`, `withheld:0-and-more-of-it`}, // no way to another's value
		{`lantern-mosaic-41-  two`, `lantern-mosaic-41-  two`},
	} {
		name := fmt.Sprintf("person%d", i)
		response, answer := r.do("POST", "/api/v1/users", admin, fmt.Sprintf(`{"name":%q,"password":"%s","roles":["viewer"]}`, name, c.made))
		require.Equal(t, 200, response.StatusCode, answer)
		body := fmt.Sprintf([]string{
			`{"name":%q,"password":"%s"}`,
			`{"password":"%[2]s","name":%[1]q}`,
			`{"name":%q,"PassWord":"%s"}`,
			`{"name":%q,"password":"not this one","password":"%s"}`,
		}[i%4], name, c.used)
		response, answer = r.do("POST", "/api/v1/sessions", "", body)
		assert.Equal(t, 200, response.StatusCode, "%s: %s", body, answer)
	}
	for body, want := range map[string]int{
		`{"name":"ines","password":"withheld:0"}`:         401,
		`{"name":"ines","password":17}`:                   422,
		`{"name":"ines","password":null}`:                 422,
		`{"name":"ines","password":["` + password + `"]}`: 422,
		`{"name":"ines","password":"` + password:          400,
		`{"name":"ines"}`:                                 422,
		`"` + password + `"`:                              422,
		`{"name":"ines","password":"\ud800 \x"}`:          400,
	} {
		response, answer := r.do("POST", "/api/v1/sessions", "", body)
		assert.Equal(t, want, response.StatusCode, "%s: %s", body, answer)
		assert.NotContains(t, answer, password)
		assert.NotContains(t, answer, "withheld:0")
	}
}

// Every field that the API describes as a secret is withheld.
func TestSecretsAreKnownByDescription(t *testing.T) {
	s := &Service{Config: Config{Log: slog.New(slog.DiscardHandler)}}
	s.build()
	fields := withheld.Of(s.api)
	withSecrets := map[string]int{}
	for _, item := range s.api.OpenAPI().Paths {
		for _, operation := range []*huma.Operation{item.Get, item.Post, item.Put, item.Patch, item.Delete} {
			if operation == nil {
				continue
			}
			if names := fields.Names(operation); len(names) > 0 {
				withSecrets[operation.OperationID] = len(names)
			}
		}
	}
	assert.Equal(t, map[string]int{"sign-in": 1, "set-up": 2, "add-batch": 1, "add-user": 1, "change-user": 1, "change-own-password": 2, "save-steward": 2, "take-custody": 1}, withSecrets)
}

func TestHeldValuesAreWiped(t *testing.T) {
	text := []byte("lantern-41")
	v := secret.Hold(text)
	copied := v
	v.Wipe()
	assert.Equal(t, make([]byte, 10), text)
	assert.Equal(t, make([]byte, 10), copied.Reveal())
	shared := secret.New("stays")
	shared.Wipe()
	assert.Equal(t, "stays", shared.RevealString())
}
