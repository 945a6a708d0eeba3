package held_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// What we write into environment files and scripts is what the shells of this machine
// read there, and what a shell quotes is what we find.
func TestShellsReadWhatIsWritten(t *testing.T) {
	for _, shell := range []string{"sh", "bash"} {
		if _, err := exec.LookPath(shell); err != nil {
			continue // sh is there everywhere
		}
		t.Run(shell, func(t *testing.T) {
			r := rand.New(rand.NewPCG(8, 15))
			folder := t.TempDir()
			quote := map[int]func(string) string{
				0: func(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" },
				1: func(s string) string {
					return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`").Replace(s) + `"`
				},
				2: func(s string) string { // a backslash before everything that is no letter
					var out strings.Builder
					for _, c := range s {
						if c < 0x80 && !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.,/:@%+-", c) {
							out.WriteByte('\\')
						}
						out.WriteRune(c)
					}
					return out.String()
				},
			}
			var names, want []string
			var script strings.Builder
			found, carried, refused := 0, 0, 0
			for n := range 600 {
				old, next := fmt.Sprintf("Old%d-", n)+text(r), fmt.Sprintf("New%d-", n)+text(r)
				if strings.ContainsAny(old+next, "\t\u2028") {
					continue
				}
				path := "/etc/app/app.env"
				lines := []string{"# " + text(r), "A_USER=svc-a", "export B='x y'", "DB_PASSWORD=" + quote[r.IntN(3)](old), "C=\"$A_USER\""}
				if r.IntN(2) == 0 {
					path, lines = "/usr/local/bin/run.sh", append([]string{"#!/bin/" + shell}, lines...)
				}
				raw := []byte(strings.Join(lines, "\n") + "\n")
				located, err := held.Locate(path, raw, layout.HintNone, func(v secret.Value) bool { return v.RevealString() == old })
				require.NoError(t, err)
				var spans []held.Span
				for _, s := range located.Spans {
					if s.Value.RevealString() == old {
						spans = append(spans, s)
					}
				}
				require.Len(t, spans, 1, "%q is found once in\n%s", old, raw)
				found++
				out, err := held.Splice(raw, spans[0].Locator, secret.New(next))
				if err != nil {
					require.ErrorIs(t, err, layout.ErrCannotCarry)
					refused++
					continue
				}
				carried++
				file := filepath.Join(folder, fmt.Sprint(n))
				require.NoError(t, os.WriteFile(file, out, 0o600))
				fmt.Fprintf(&script, "( . %s >/dev/null 2>&1; printf '%%s\\n' \"$DB_PASSWORD|$A_USER|$B|$C\" )\n", file)
				names, want = append(names, string(out)), append(want, next+"|svc-a|x y|svc-a")
			}
			run := filepath.Join(folder, "run")
			require.NoError(t, os.WriteFile(run, []byte(script.String()), 0o600))
			said, err := exec.Command(shell, run).Output()
			require.NoError(t, err)
			got := strings.Split(strings.TrimSuffix(string(said), "\n"), "\n")
			require.Len(t, got, len(want))
			for i := range want {
				require.Equal(t, want[i], got[i], "%s reads\n%s", shell, names[i])
			}
			require.Greater(t, found, 400)
			require.Greater(t, carried, 3*refused, "%d carried, %d refused", carried, refused)
		})
	}
}
