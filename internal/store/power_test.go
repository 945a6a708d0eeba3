package store

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	mathrand "math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// What the store writes is watched from outside, by a program that knows nothing of it: each
// write and each sync of its files, in the order in which the kernel was asked. Then the
// power fails: of what was written to a file since it was synced last, any part is there,
// any is not, and any is torn within; a file that was renamed has its new name with whatever
// of its content had been synced. What the store had said is on disk must be there.

const powerFolder = "MOSS_POWER_FOLDER"

// powerSteps is how many values are sealed: enough for the log to be folded back several times.
const powerSteps = 260

func powerSealer(t testing.TB) *secret.Sealer {
	sealer, err := secret.NewSealer(bytes.Repeat([]byte{7}, secret.KeySize), rand.Reader)
	require.NoError(t, err)
	return sealer
}

// TestPowerWork is what the store does while it is watched; it is no test by itself.
func TestPowerWork(t *testing.T) {
	folder := os.Getenv(powerFolder)
	if folder == "" {
		return // run by TestPowerLoss
	}
	ctx := t.Context()
	s, err := Open(ctx, folder, time.Now)
	require.NoError(t, err)
	defer s.Close()
	sealer := powerSealer(t)
	require.NoError(t, s.OpenLedger(ctx, sealer, s.FolderWitness()))
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(ctx, id, []estate.Account{{StableID: "1", Name: "svc-berth", Type: "user"}}, NewSeen(), &records.Tally{}))
	c, err := s.NotePassword(ctx, 1)
	require.NoError(t, err)
	for i := range powerSteps {
		v := secret.New(fmt.Sprintf("value %d", i))
		sealed := records.Secret{CredentialID: c.ID, Kind: credential.Password, AccountID: 1, SystemID: id, Fingerprint: fmt.Sprint("f", i)}
		sealed.Sealed, err = sealer.Seal(sealed.Binding(), v)
		require.NoError(t, err)
		require.NoError(t, s.AddCandidate(ctx, sealed))
		require.NoError(t, s.Record(ctx, ledger.Entry{Actor: "ines", Act: "custody.reset", Phase: ledger.Intent, Subject: "svc-berth", Detail: strings.Repeat("x", 3000)}))
		// From here on it may be sent: law 1.
		fmt.Fprintf(os.Stderr, "sealed %d\n", i)
	}
}

// kernelCall is one thing that the kernel was asked for.
type kernelCall struct {
	call, path, to string
	at             int64
	data           []byte
}

var callLine = regexp.MustCompile(`^\d+ +(\w+)\((.*)\) += (\d+)`)

// traceOf reads what was watched.
func traceOf(t *testing.T, name string) (out []kernelCall) {
	t.Helper()
	f, err := os.Open(name)
	require.NoError(t, err)
	defer f.Close()
	begun := map[string]string{}
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 64<<20)
	for lines.Scan() {
		line := lines.Text()
		pid, _, _ := strings.Cut(line, " ")
		if first, rest := strings.CutSuffix(line, " <unfinished ...>"); rest {
			begun[pid] = first
			continue
		}
		if _, rest, resumed := strings.Cut(line, " resumed>"); resumed {
			line = begun[pid] + rest
			delete(begun, pid)
		}
		m := callLine.FindStringSubmatch(line)
		if m == nil {
			continue // it failed, or is of another kind
		}
		w := kernelCall{call: m[1]}
		args := strings.Split(m[2], ", ")
		text := func(quoted string) []byte {
			quoted = strings.Trim(quoted, `"`)
			raw, err := hex.DecodeString(strings.ReplaceAll(quoted, `\x`, ""))
			require.NoError(t, err, quoted)
			return raw
		}
		file := func(descriptor string) string {
			_, path, _ := strings.Cut(descriptor, "<")
			path, _, _ = strings.Cut(path, ">")
			if !strings.HasPrefix(path, `\x`) {
				return path
			}
			return string(text(path))
		}
		number := func(s string) int64 {
			n, err := strconv.ParseInt(s, 10, 64)
			require.NoError(t, err, line[:min(len(line), 200)])
			return n
		}
		switch w.call {
		case "pwrite64":
			require.False(t, strings.HasSuffix(args[1], "..."), "a write was not watched whole")
			w.path, w.data, w.at = file(args[0]), text(args[1]), number(args[3])
		case "write":
			w.path, w.data = file(args[0]), text(args[1])
			if strings.HasPrefix(args[0], "2<") {
				w.path = "said"
			}
			w.at = -1 // where the file ends
		case "ftruncate":
			w.path, w.at = file(args[0]), number(args[1])
		case "fsync", "fdatasync":
			w.call, w.path = "sync", file(args[0])
		case "renameat", "renameat2":
			w.call, w.path, w.to = "rename", string(text(args[1])), string(text(args[3]))
		case "rename":
			w.path, w.to = string(text(args[0])), string(text(args[1]))
		case "unlinkat":
			w.call, w.path = "unlink", string(text(args[1]))
		case "unlink":
			w.path = string(text(args[0]))
		case "openat":
			if !strings.Contains(args[2], "O_TRUNC") {
				continue
			}
			w.call, w.path = "empty", string(text(args[1]))
		default:
			t.Fatalf("%s is not known: %s", w.call, line[:min(len(line), 200)])
		}
		out = append(out, w)
	}
	require.NoError(t, lines.Err())
	return out
}

// disk is what of files is safe, and what was written since.
type disk struct {
	safe  map[string][]byte
	since map[string][]kernelCall
}

func (d *disk) do(w kernelCall) {
	switch w.call {
	case "sync":
		d.safe[w.path] = after(d.safe[w.path], d.since[w.path])
		delete(d.since, w.path)
	case "rename":
		d.safe[w.to], d.since[w.to] = d.safe[w.path], d.since[w.path]
		delete(d.safe, w.path)
		delete(d.since, w.path)
	case "unlink":
		delete(d.safe, w.path)
		delete(d.since, w.path)
	default:
		if _, there := d.safe[w.path]; !there {
			d.safe[w.path] = nil
		}
		d.since[w.path] = append(d.since[w.path], w)
	}
}

// after is a file with some writes.
func after(content []byte, writes []kernelCall) []byte {
	content = bytes.Clone(content)
	for _, w := range writes {
		switch w.call {
		case "empty":
			content = nil
			continue
		case "ftruncate":
			content = append(content[:min(int64(len(content)), w.at):min(int64(len(content)), w.at)], make([]byte, max(0, w.at-int64(len(content))))...)
			continue
		}
		at := w.at
		if at < 0 {
			at = int64(len(content))
		}
		if end := at + int64(len(w.data)); end > int64(len(content)) {
			content = append(content, make([]byte, end-int64(len(content)))...)
		}
		copy(content[at:], w.data)
	}
	return content
}

// sector is what a disk writes whole.
const sector = 512

// fail is what is there once the power is back: of each write since the last sync all, none,
// or some sectors, in any order.
func (d *disk) fail(random *mathrand.Rand) map[string][]byte {
	out := map[string][]byte{}
	for path, content := range d.safe {
		var kept []kernelCall
		for _, w := range d.since[path] {
			switch random.Intn(3) {
			case 0:
				continue
			case 1:
				if len(w.data) > sector {
					for at := 0; at < len(w.data); at += sector {
						if random.Intn(2) == 0 && w.at >= 0 {
							kept = append(kept, kernelCall{call: w.call, path: path, at: w.at + int64(at), data: w.data[at:min(at+sector, len(w.data))]})
						}
					}
					continue
				}
				if len(w.data) > 1 && w.at < 0 {
					w.data = w.data[:random.Intn(len(w.data))]
				}
			}
			kept = append(kept, w)
		}
		out[path] = after(content, kept)
	}
	return out
}

func TestPowerLoss(t *testing.T) {
	base := t.TempDir()
	folder, trace := filepath.Join(base, "data"), filepath.Join(base, "trace")
	limited, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(limited, "strace", "-f", "-qq", "-y", "-xx", "-s", "200000", "-o", trace, "-e", "trace=pwrite64,write,ftruncate,fsync,fdatasync,rename,renameat,renameat2,unlink,unlinkat,openat",
		os.Args[0], "-test.run", "^TestPowerWork$", "-test.count", "1")
	cmd.Env = append(os.Environ(), powerFolder+"="+folder)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "strace, which 'make lab' gets, watches the store: %s", out)

	all := traceOf(t, trace)
	prefix := folder + string(filepath.Separator)
	said, syncs, writes := 0, 0, 0
	var mine []kernelCall
	for _, w := range all {
		switch {
		case w.path == "said" && bytes.HasPrefix(w.data, []byte("sealed ")):
			said++
		case !strings.HasPrefix(w.path, prefix) || strings.HasSuffix(w.path, "-shm"):
			continue // the index of the log is made anew
		case w.call == "sync":
			syncs++
		case w.call == "pwrite64":
			writes++
		}
		if w.path != "said" || bytes.HasPrefix(w.data, []byte("sealed ")) {
			mine = append(mine, w)
		}
	}
	require.Equal(t, powerSteps, said)
	require.Greater(t, syncs, powerSteps)
	require.Greater(t, writes, 4*powerSteps)

	seed := time.Now().UnixNano()
	t.Logf("%d writes, %d syncs; seed %d", writes, syncs, seed)
	random := mathrand.New(mathrand.NewSource(seed))
	fails := map[int]bool{}
	for range 60 {
		fails[random.Intn(len(mine))] = true
	}
	d := &disk{map[string][]byte{}, map[string][]kernelCall{}}
	sealed, lost := 0, 0
	for i, w := range mine {
		if w.path == "said" {
			sealed++
		} else {
			d.do(w)
		}
		if fails[i] && sealed > 0 {
			lost++
			powerIsBack(t, d.fail(random), sealed, fmt.Sprintf("seed %d, after %d of %d", seed, i, len(mine)))
		}
	}
	assert.Greater(t, lost, 30)
}

// powerIsBack opens what is there, and finds everything that was said to be sealed.
func powerIsBack(t *testing.T, files map[string][]byte, sealed int, when string) {
	t.Helper()
	folder := t.TempDir()
	for path, content := range files {
		require.NoError(t, os.WriteFile(filepath.Join(folder, filepath.Base(path)), content, 0o600))
	}
	ctx := t.Context()
	s, err := Open(ctx, folder, time.Now)
	require.NoError(t, err, when)
	defer s.Close()
	sealer := powerSealer(t)
	require.NoError(t, s.OpenLedger(ctx, sealer, s.FolderWitness()), when)
	require.NoError(t, s.LedgerTrouble(), when)
	values, err := s.Secrets(ctx, 1)
	require.NoError(t, err, when)
	require.GreaterOrEqual(t, len(values), sealed, when)
	for _, v := range values {
		opened, err := sealer.Open(v.Binding(), v.Sealed)
		require.NoError(t, err, when)
		require.Equal(t, "value "+strings.TrimPrefix(v.Fingerprint, "f"), opened.RevealString(), when)
	}
	report, err := s.LedgerVerify(ctx)
	require.NoError(t, err, when)
	require.Empty(t, report.Problems, when)
	require.GreaterOrEqual(t, report.Entries, int64(sealed), when)
	// And it goes on.
	require.NoError(t, s.Record(ctx, ledger.Entry{Actor: "ines", Act: "custody.reset", Phase: ledger.Intent}), when)
}

// A head that was torn beside the master key is no reason to stop: an older database could
// not be told this time, and that is said. One that somebody else signed is.
func TestATornHead(t *testing.T) {
	for text, trouble := range map[string]bool{"": false, "moss": false, "torn": false, "foreign": true} {
		folder := t.TempDir()
		s := open(t, folder)
		require.NoError(t, s.Record(t.Context(), entryOf("one")))
		require.NoError(t, s.Close())
		head := filepath.Join(folder, database.HeadFileName)
		raw, err := os.ReadFile(head)
		require.NoError(t, err)
		switch text {
		case "torn":
			text = string(raw[:len(raw)-9])
		case "foreign":
			text = strings.Replace(string(raw), "\n2\n", "\n1\n", 1)
			require.NotEqual(t, string(raw), text)
		}
		require.NoError(t, os.WriteFile(head, []byte(text), 0o600))
		s = open(t, folder)
		if trouble {
			require.ErrorIs(t, s.LedgerTrouble(), ledger.ErrBroken, text)
			continue
		}
		require.NoError(t, s.LedgerTrouble(), text)
		require.NotEmpty(t, s.LedgerRemarks(), text)
		require.NoError(t, s.Record(t.Context(), entryOf("two")))
		require.NoError(t, s.Close())
		s = open(t, folder)
		require.NoError(t, s.LedgerTrouble())
		require.Empty(t, s.LedgerRemarks(), "the next start is an ordinary one")
	}
}
