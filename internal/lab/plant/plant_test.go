package plant

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// Every planted credential is found where it stands, can be replaced and reads
// back, with values from another serializer.
func TestPlantsAreFoundAndReplaced(t *testing.T) {
	for seed := range uint64(6) {
		p := Seeded(seed, 200)
		again := Seeded(seed, 200)
		require.Equal(t, p, again, "a seed gives the same files")
		passwords, known := map[string]string{}, map[string]bool{}
		for _, a := range p.Accounts {
			passwords[a.Name] = a.Password
			if a.Custody {
				known[a.Password] = true
			}
		}
		files := map[string][]byte{}
		for _, f := range p.Files {
			files[f.Path] = f.Content
		}
		refused := 0
		for _, truth := range p.Truth {
			located, err := held.Locate(truth.Path, files[truth.Path], layout.HintNone, func(v secret.Value) bool { return known[v.RevealString()] })
			require.NoError(t, err)
			found := false
			for _, span := range located.Spans {
				if span.Value.RevealString() != passwords[truth.Account] {
					continue
				}
				found = true
				out, err := held.Splice(files[truth.Path], span.Locator, secret.New("Next-Value.1"))
				if assert.NoError(t, err, "%s: %s", truth.Format, files[truth.Path]) {
					assert.NotContains(t, string(out), passwords[truth.Account])
				}
				if _, err := held.Splice(files[truth.Path], span.Locator, secret.New(`n"e'w\ %$#;`)); err != nil {
					refused++
				}
				named := strings.Contains(strings.ToLower(strings.Join(span.Names, " ")), truth.Account)
				assert.True(t, named || known[span.Value.RevealString()], "%s: %v beside it in %s", truth.Format, span.Names, files[truth.Path])
			}
			assert.True(t, found, "%s (%s): %s\n%+v", truth.Format, truth.Path, files[truth.Path], located)
		}
		assert.Less(t, refused, len(p.Truth)/3)
	}
}

// Keys are written without the libraries that read them.
func TestPlantedKeysAreWhatTheyAreCalled(t *testing.T) {
	p := Seeded(3, 600)
	files := map[string][]byte{}
	for _, f := range p.Files {
		files[f.Path] = f.Content
	}
	require.Len(t, p.Keys, 60)
	kinds := map[string]int{}
	for _, k := range p.Keys {
		kinds[k.Format]++
		content := files[k.Path]
		var is string
		switch {
		case strings.HasPrefix(k.Format, "entry"):
			entries, _ := keys.ParseAuthorized(content)
			require.Len(t, entries, 1, string(content))
			is = entries[0].Fingerprint
		case k.Format == "key tab":
			tabs, err := keys.ParseKeytab(content)
			require.NoError(t, err)
			is = tabs[0].Principal
		default:
			private, _ := keys.ParsePEM(content)
			require.Len(t, private, 1, k.Format)
			is = private[0].Fingerprint
		}
		assert.Equal(t, k.Name, is, k.Format)
	}
	assert.Len(t, kinds, 6)
}
