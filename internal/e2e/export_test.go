package e2e

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A program that shares nothing with ours reads an export as docs/ledger.md
// describes it, and computes the root that the checkpoint signs.
func TestAnotherProgramReadsTheExport(t *testing.T) {
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Fatal("python3 is needed: 'make test' installs what brings it")
	}
	u := newService(t)
	u.moss(0, "system", "add", "nowhere", "--kind", "redis", "--address", "127.0.0.9", "--port", "1", "--owner", "Käthe <Überfahrt> & Söhne \u2028")
	for range 3 {
		u.moss(3, "system", "check", "nowhere")
	}
	u.moss(0, "ledger", "export", "--out", u.File("ledger.jsonl"))
	const script = `
import base64, hashlib, json, sys
lines = open(sys.argv[1], "rb").read().split(b"\n")
assert lines.pop() == b"", "the last line ends with a newline"
header = json.loads(lines[0])
assert header["format"] == "moss-ledger-export-1", header
leaves = lines[1:]
for i, leaf in enumerate(leaves):
    assert json.loads(leaf)["index"] == i
def root(hashes):
    if len(hashes) == 1:
        return hashes[0]
    k = 1
    while k * 2 < len(hashes):
        k *= 2
    return hashlib.sha256(b"\x01" + root(hashes[:k]) + root(hashes[k:])).digest()
note = header["checkpoint"].split("\n")
assert note[0] == header["origin"] == "moss-ledger", note
assert int(note[1]) == len(leaves), (note[1], len(leaves))
assert base64.b64decode(note[2]) == root([hashlib.sha256(b"\x00" + l).digest() for l in leaves]), "the root is another"
print("the root of", len(leaves), "entries is the signed one")
`
	out, err := exec.CommandContext(t.Context(), python, "-c", script, u.File("ledger.jsonl")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.True(t, strings.HasSuffix(string(out), "entries is the signed one\n"), "%s", out)

	key := u.file("ledger.key", u.moss(0, "ledger", "checkpoint", "--as", "verifier"))
	u.moss(0, "ledger", "verify", "--offline", u.File("ledger.jsonl"), "--key", key)
}
