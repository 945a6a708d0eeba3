package service

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

var update = flag.Bool("update", false, "write docs/kinds.md anew")

// TestKindsAreDocumented holds docs/kinds.md against what the kinds say of
// themselves, and every kind that the estate knows against a connector.
func TestKindsAreDocumented(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Kinds of system\n\nMade from what each kind says of itself (`go test ./internal/service -run TestKindsAreDocumented -update`); `moss system kinds`, `GET /api/v1/kinds` and\nthe console's form say the same. An option that is *approved* decides where secrets go: changing it takes a second person.\n")
	kinds := connect.Descriptions()
	for _, d := range kinds {
		fmt.Fprintf(&b, "\n## %s\n\nA %s, on port %d where none is given, known by its %s. A steward signs in with a %s.\n\n- It is read for: %s.\n- It can: %s.\n- Rights there are to: %s.\n", d.Kind, d.Title, d.Port, d.Proof, strings.Join(d.SignIn, " or a "), strings.Join(d.Scopes, ", "), joined(d.Acts), strings.Join(d.Verbs, ", "))
		for _, e := range d.Ends {
			fmt.Fprintf(&b, "- `%s` of the %s: %s.\n", e.Act, e.Of, e.How)
		}
		b.WriteString("\n| option | setting | without it | |\n|---|---|---|---|\n")
		for _, o := range d.Options {
			setting := string(o.Type)
			if len(o.Choices) > 0 {
				setting = strings.Join(o.Choices, ", ")
				if o.Type != connect.OptionChoice {
					setting = string(o.Type) + ", or " + setting
				}
			}
			note := ""
			if !o.Reading {
				note = " Approved."
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s.%s |\n", o.Name, setting, o.Default, strings.ToUpper(o.Help[:1])+o.Help[1:], note)
		}
	}
	const path = "../../docs/kinds.md"
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(b.String()), 0o644))
	}
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(raw), b.String())
	for _, kind := range estate.Kinds() {
		_, ok := connect.For(kind)
		assert.True(t, ok, "nothing reaches the kind %s", kind)
	}
	assert.Len(t, kinds, len(estate.Kinds()))
}

func joined(acts []connect.Act) string {
	var out []string
	for _, a := range acts {
		out = append(out, string(a))
	}
	return strings.Join(out, ", ")
}
