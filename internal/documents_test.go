package internal

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	testNamed   = regexp.MustCompile("`((?:Test|Fuzz|Benchmark)[A-Z][A-Za-z]+)`")
	testDefined = regexp.MustCompile(`(?m)^func ((?:Test|Fuzz|Benchmark)[A-Z]\w*)\(`)
	linked      = regexp.MustCompile(`\]\(([^)#\s]+)(?:#[^)]*)?\)`)
	lawCited    = regexp.MustCompile(`[Ll]aws? (\d+)`)
)

// walk reads all files with an ending, but those that are not ours.
func walk(t *testing.T, ending string, read func(path, text string)) {
	t.Helper()
	require.NoError(t, filepath.WalkDir("..", func(path string, entry os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name := entry.Name(); entry.IsDir() && (name == "node_modules" || name == ".git" || name == "web" || name == "bin") {
			return filepath.SkipDir
		}
		if entry.IsDir() || !strings.HasSuffix(path, ending) {
			return nil
		}
		raw, err := os.ReadFile(path)
		if err == nil {
			read(path, string(raw))
		}
		return err
	}))
}

// Documents name tests and files that are there, and every law has its tests.
func TestDocumentsHold(t *testing.T) {
	tests := map[string]bool{}
	walk(t, "_test.go", func(_, text string) {
		for _, m := range testDefined.FindAllStringSubmatch(text, -1) {
			tests[m[1]] = true
		}
	})
	require.Greater(t, len(tests), 200)
	named, links := 0, 0
	walk(t, ".md", func(path, text string) {
		for _, m := range testNamed.FindAllStringSubmatch(text, -1) {
			named++
			assert.True(t, tests[m[1]], "%s names %s, which is not there", path, m[1])
		}
		for _, m := range linked.FindAllStringSubmatch(text, -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			links++
			_, err := os.Stat(filepath.Join(filepath.Dir(path), m[1]))
			assert.NoError(t, err, "%s links to %s", path, m[1])
		}
	})
	require.Greater(t, named, 40)
	require.Greater(t, links, 40)

	raw, err := os.ReadFile("../docs/laws.md")
	require.NoError(t, err)
	laws := regexp.MustCompile(`(?m)^(\d+)\. \*\*`).Split(string(raw), -1)[1:]
	require.Len(t, laws, 13)
	for i, law := range laws {
		assert.NotEmpty(t, testNamed.FindAllString(law, -1), "law %d has no test", i+1)
	}
	walk(t, ".go", func(path, text string) {
		for _, m := range lawCited.FindAllStringSubmatch(text, -1) {
			assert.Regexp(t, `^([1-9]|1[0-3])$`, m[1], "%s cites law %s", path, m[1])
		}
	})
}
