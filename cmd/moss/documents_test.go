package main

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"

	"mossledger.example/moss/internal/cli"
)

var (
	quotedCommand = regexp.MustCompile("(?:'|`)(moss [a-z][^'`\n]*)(?:'|`)")
	verb          = regexp.MustCompile(`%[a-zA-Z+#]+|"`)
	blanked       = regexp.MustCompile("(?ms)^```[a-z]*\n(.*?)^```|^    ((?:bin/)?moss .*(?:\n     +.*)*)")
)

// commandLines are the simple commands of a shell text that call moss.
func commandLines(t *testing.T, where, text string) (out [][]string) {
	t.Helper()
	file, err := syntax.NewParser().Parse(strings.NewReader(text), where)
	if err != nil {
		return nil // not shell: another tool's format, a sketch
	}
	syntax.Walk(file, func(node syntax.Node) bool {
		call, ok := node.(*syntax.CallExpr)
		if !ok || len(call.Args) == 0 || !strings.HasSuffix("/"+call.Args[0].Lit(), "/moss") {
			return true
		}
		words, err := expand.Fields(&expand.Config{Env: expand.ListEnviron()}, call.Args...)
		if assert.NoError(t, err, where) {
			out = append(out, words[1:])
		}
		return true
	})
	return out
}

// parses says what is wrong with a command line: no such command, no such
// flag, and, where it is whole, too many or too few words.
func parses(words []string, whole bool) error {
	root := cli.New("test", serveCommand(), demoCommand(), openAPICommand())
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	cmd, rest, err := root.Find(words)
	if err != nil {
		return err
	}
	whole = whole && !slices.Contains(rest, "...") // and so on
	if !whole && len(rest) > 0 && strings.HasPrefix(rest[len(rest)-1], "--") && !strings.Contains(rest[len(rest)-1], "=") {
		if f := cmd.Flag(rest[len(rest)-1][2:]); f != nil && f.NoOptDefVal == "" {
			rest = append(slices.Clone(rest), "X") // a flag is named, its value left out
		}
	}
	cmd.InitDefaultHelpFlag()
	cmd.InitDefaultVersionFlag()
	if err := cmd.ParseFlags(rest); err != nil {
		return err
	}
	if cmd.HasSubCommands() && !strings.Contains(cmd.Use, " ") { // one that only holds others
		return cobra.NoArgs(cmd, cmd.Flags().Args())
	}
	if !whole {
		return nil
	}
	return cmd.ValidateArgs(cmd.Flags().Args())
}

// What is shown in documents, in the examples of the commands themselves and in
// messages is what the command line understands.
func TestShownCommandLinesParse(t *testing.T) {
	shown := 0
	judge := func(where string, words []string, whole bool) {
		shown++
		assert.NoError(t, parses(words, whole), "%s shows: moss %s", where, strings.Join(words, " "))
	}
	require.NoError(t, filepath.WalkDir("../..", func(path string, entry os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name := entry.Name(); entry.IsDir() && (name == "node_modules" || name == ".git" || name == "dist" || name == "bin" || name == "testdata") {
			return filepath.SkipDir
		}
		ending := filepath.Ext(path)
		if entry.IsDir() || strings.HasSuffix(path, "_test.go") || ending != ".md" && ending != ".go" && ending != ".vue" && ending != ".ts" || filepath.Base(path) == "CHANGELOG.md" {
			return nil
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		text := string(raw)
		if ending == ".md" {
			for _, m := range blanked.FindAllStringSubmatch(text, -1) {
				for _, words := range commandLines(t, path, m[1]+m[2]) {
					judge(path, words, true)
				}
			}
			text = blanked.ReplaceAllString(text, "")
		}
		for _, m := range quotedCommand.FindAllStringSubmatch(text, -1) {
			for _, words := range commandLines(t, path, verb.ReplaceAllString(m[1], "X")) {
				judge(path, words, false)
			}
		}
		return nil
	}))
	var examples func(*cobra.Command)
	examples = func(cmd *cobra.Command) {
		for _, words := range commandLines(t, cmd.CommandPath(), cmd.Example) {
			judge("help of "+cmd.CommandPath(), words, true)
		}
		for _, sub := range cmd.Commands() {
			examples(sub)
		}
	}
	examples(cli.New("test", serveCommand(), demoCommand(), openAPICommand()))
	require.Greater(t, shown, 100)
	require.Error(t, parses([]string{"stewart", "list"}, true))
	require.Error(t, parses([]string{"steward", "lists"}, true))
	require.Error(t, parses([]string{"steward", "list", "--nothing"}, true))
	require.Error(t, parses([]string{"radius"}, true))
}
