package reading

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The lines for sudoers in the papers are those that a visit runs: a sudoers
// line counts only when it is exact.
func TestRightsAreDocumented(t *testing.T) {
	raw, err := os.ReadFile("../../../../docs/onboarding.md")
	require.NoError(t, err)
	paper := regexp.MustCompile(`\s*\\\n\s*`).ReplaceAllString(string(raw), " ")
	for _, line := range SearchRights(nil) {
		assert.Contains(t, paper, line)
	}
}
