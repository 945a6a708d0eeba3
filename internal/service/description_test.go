package service

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The description that is kept beside the documentation, and that the console's types are
// made of, is the one that the service gives: 'make api' writes it.
func TestTheKeptDescriptionIsThatOfTheService(t *testing.T) {
	kept, err := os.ReadFile("../../docs/openapi.json")
	require.NoError(t, err)
	given, err := OpenAPI()
	require.NoError(t, err)
	assert.JSONEq(t, string(given), string(kept), "run 'make api'")
}
