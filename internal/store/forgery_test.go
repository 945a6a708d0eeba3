package store

import (
	"bytes"
	"crypto/rand"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

func entryOf(act string) ledger.Entry {
	return ledger.Entry{Actor: "ines", Act: act, Phase: ledger.Outcome}
}

// forge changes the database file behind the service's back.
func forge(t *testing.T, folder string, statements ...string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, database.FileName))
	require.NoError(t, err)
	for _, statement := range statements {
		_, err := db.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
}

// rebuilt makes all stored hashes anew from the entries, as a forger would who
// knows the format.
func rebuilt(t *testing.T, folder string, signer note.Signer) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, database.FileName))
	require.NoError(t, err)
	rows, err := db.QueryContext(t.Context(), "SELECT leaf FROM ledger ORDER BY idx")
	require.NoError(t, err)
	book, n, hash := ledger.NewBook(), 0, []any{}
	var each [][2]any
	for rows.Next() {
		var leaf []byte
		require.NoError(t, rows.Scan(&leaf))
		add, first, next, err := book.Append(leaf)
		require.NoError(t, err)
		for i := range add {
			each = append(each, [2]any{first + int64(i), add[i][:]})
		}
		hash, book = append(hash, add[0][:]), next
		n++
	}
	require.NoError(t, rows.Err())
	require.NoError(t, rows.Close()) //nolint:sqlclosecheck // before the next statement
	_, err = db.ExecContext(t.Context(), "DELETE FROM ledger_hashes")
	require.NoError(t, err)
	for _, h := range each {
		_, err = db.ExecContext(t.Context(), "INSERT INTO ledger_hashes (idx, hash) VALUES (?, ?)", h[0], h[1])
		require.NoError(t, err)
	}
	for i, h := range hash {
		_, err = db.ExecContext(t.Context(), "UPDATE ledger SET hash = ? WHERE idx = ?", h, i)
		require.NoError(t, err)
	}
	if signer != nil {
		checkpoint, err := ledger.SignHead(book.Head(), signer)
		require.NoError(t, err)
		_, err = db.ExecContext(t.Context(), "UPDATE ledger_head SET size = ?, checkpoint = ?", n, checkpoint)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
}

func copyFolder(t *testing.T, from string) string {
	t.Helper()
	to := t.TempDir()
	require.NoError(t, os.CopyFS(to, os.DirFS(from)))
	return to
}

// TestForgeriesAreToldAndNeverSigned alters the database file in every way that
// was thought of. Each must be told at start or by a verification, and an act
// after it must not make it verify.
func TestForgeriesAreToldAndNeverSigned(t *testing.T) {
	base := t.TempDir()
	s := open(t, base)
	for i := range 20 {
		require.NoError(t, s.Record(t.Context(), entryOf(fmt.Sprint("act", i))))
	}
	require.NoError(t, s.AddUser(t.Context(), records.User{Name: "ines", Roles: []string{"auditor"}}, false, entryOf("user.add")))
	require.NoError(t, s.Close())
	early := copyFolder(t, base)
	s = open(t, base)
	for i := range 5 {
		require.NoError(t, s.Record(t.Context(), entryOf(fmt.Sprint("later", i))))
	}
	require.NoError(t, s.Close())
	key, verifier, err := note.GenerateKey(rand.Reader, ledger.Origin)
	require.NoError(t, err)
	forger, err := note.NewSigner(key)
	require.NoError(t, err)

	for name, forgery := range map[string]func(folder string){
		"an entry altered": func(f string) {
			forge(t, f, "UPDATE ledger SET leaf = replace(leaf, 'ines', 'odil') WHERE idx = 9")
		},
		"an entry altered with its hash": func(f string) {
			forge(t, f, "UPDATE ledger SET leaf = replace(leaf, 'ines', 'odil') WHERE idx = 9")
			rebuilt(t, f, nil)
		},
		"an entry altered, all hashes and the head made anew by a forger": func(f string) {
			forge(t, f, "UPDATE ledger SET leaf = replace(leaf, 'ines', 'odil') WHERE idx = 9")
			rebuilt(t, f, forger)
		},
		"the same with the forger's verifier": func(f string) {
			forge(t, f, "UPDATE ledger SET leaf = replace(leaf, 'ines', 'odil') WHERE idx = 9", "INSERT OR REPLACE INTO meta (key, value) VALUES ('ledger-verifier', '"+verifier+"')")
			rebuilt(t, f, forger)
		},
		"the last entry removed": func(f string) { forge(t, f, "DELETE FROM ledger WHERE idx = 25") },
		"the end cut off, hashes too": func(f string) {
			forge(t, f, "DELETE FROM ledger WHERE idx > 20")
			rebuilt(t, f, nil)
		},
		"an entry in the middle removed": func(f string) { forge(t, f, "DELETE FROM ledger WHERE idx = 11") },
		"a stored hash altered":          func(f string) { forge(t, f, "UPDATE ledger_hashes SET hash = zeroblob(32) WHERE idx = 7") },
		"a stored hash of the edge altered": func(f string) {
			forge(t, f, "UPDATE ledger_hashes SET hash = zeroblob(32) WHERE idx = 30")
		},
		"stored hashes moved": func(f string) {
			forge(t, f, "UPDATE ledger_hashes SET idx = -idx - 1", "UPDATE ledger_hashes SET idx = -idx")
		},
		"stored hashes emptied": func(f string) { forge(t, f, "DELETE FROM ledger_hashes") },
		"a short stored hash":   func(f string) { forge(t, f, "UPDATE ledger_hashes SET hash = x'00' WHERE idx = 30") },
		"size of the head":      func(f string) { forge(t, f, "UPDATE ledger_head SET size = 3") },
		"the head emptied":      func(f string) { forge(t, f, "DELETE FROM ledger_head") },
		"all tables emptied": func(f string) {
			forge(t, f, "DELETE FROM ledger", "DELETE FROM ledger_hashes", "DELETE FROM ledger_head")
		},
		"everything emptied": func(f string) {
			forge(t, f, "DELETE FROM ledger", "DELETE FROM ledger_hashes", "DELETE FROM ledger_head", "DELETE FROM users", "DELETE FROM meta")
		},
		"the key removed": func(f string) { forge(t, f, "DELETE FROM meta WHERE key LIKE 'ledger%'") },
		"an older database put back": func(f string) {
			for _, suffix := range []string{"", "-wal", "-shm"} {
				_ = os.Remove(filepath.Join(f, database.FileName+suffix))
				if raw, err := os.ReadFile(filepath.Join(early, database.FileName+suffix)); err == nil {
					require.NoError(t, os.WriteFile(filepath.Join(f, database.FileName+suffix), raw, 0o600))
				}
			}
		},
		"an index far away": func(f string) {
			forge(t, f, "INSERT INTO ledger (idx, leaf, hash) VALUES (3000000, '{}', zeroblob(32))")
		},
	} {
		t.Run(name, func(t *testing.T) {
			folder := copyFolder(t, base)
			forgery(folder)
			s := open(t, folder)
			trouble := s.LedgerTrouble()
			for range 3 {
				err := s.Record(t.Context(), entryOf("after the forgery"))
				if trouble != nil {
					require.ErrorIs(t, err, ledger.ErrBroken, "nothing is signed any more")
				}
			}
			report, err := s.LedgerVerify(t.Context())
			require.NoError(t, err)
			require.False(t, report.OK(), "it verifies all the same")
			require.NoError(t, s.Close())
			s = open(t, folder) // and the next time too
			report, err = s.LedgerVerify(t.Context())
			require.NoError(t, err)
			require.False(t, report.OK())
			if trouble != nil {
				found, err := s.Findings(t.Context(), false, records.Query{Filters: []string{"kind=ledger"}})
				require.NoError(t, err)
				require.Len(t, found.Items, 1)
			}
		})
	}
}

// What is altered while the service runs is not signed either.
func TestAlteredWhileItRuns(t *testing.T) {
	for name, statement := range map[string]string{
		"a row appended": "INSERT INTO ledger (idx, leaf, hash) VALUES (2, '{}', zeroblob(32))",
		"a row removed":  "DELETE FROM ledger WHERE idx = 1",
		"the head":       "UPDATE ledger_head SET checkpoint = replace(checkpoint, 'moss', 'mess')",
		"all emptied":    "DELETE FROM ledger",
	} {
		t.Run(name, func(t *testing.T) {
			folder := t.TempDir()
			s := open(t, folder)
			require.NoError(t, s.Record(t.Context(), entryOf("one")))
			forge(t, folder, statement)
			require.ErrorIs(t, s.Record(t.Context(), entryOf("two")), ledger.ErrBroken)
			_, err := s.AddSystem(t.Context(), records.System{Name: "quay1", Kind: "unix-host"}, entryOf("system.add"))
			require.ErrorIs(t, err, ledger.ErrBroken, "no act without its entry")
			_, err = s.System(t.Context(), "quay1")
			require.ErrorIs(t, err, records.ErrNotFound)
			found, err := s.Findings(t.Context(), false, records.Query{Filters: []string{"kind=ledger"}})
			require.NoError(t, err)
			require.Len(t, found.Items, 1, "told without a restart")
		})
	}
}

func TestARestoredDatabaseIsAcceptedOnPurposeOnly(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	require.NoError(t, s.Record(t.Context(), entryOf("one")))
	require.NoError(t, s.Close())
	backup := copyFolder(t, folder)
	s = open(t, folder)
	require.NoError(t, s.Record(t.Context(), entryOf("two")))
	kept, _, err := s.LedgerCheckpoint(t.Context())
	require.NoError(t, err)
	require.NoError(t, s.Close())
	raw, err := os.ReadFile(filepath.Join(backup, database.FileName))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, database.FileName), raw, 0o600))

	s = open(t, folder)
	require.ErrorIs(t, s.LedgerTrouble(), ledger.ErrBroken)
	require.NoError(t, s.AcceptRestored(t.Context(), "service"))
	require.NoError(t, s.Record(t.Context(), entryOf("three")))
	report, err := s.LedgerVerify(t.Context())
	require.NoError(t, err)
	assert.True(t, report.OK(), "%v", report.Problems)
	page, err := s.LedgerList(t.Context(), records.Query{Filters: []string{"act=ledger.accept-restored"}})
	require.NoError(t, err)
	assert.Contains(t, page.Items[0].Detail, "3 entries were signed, the database has 2")
	report, err = s.LedgerVerify(t.Context(), kept)
	require.NoError(t, err)
	assert.False(t, report.OK(), "who kept a later checkpoint is not fooled")
	require.NoError(t, s.Close())
	s = open(t, folder)
	require.NoError(t, s.LedgerTrouble(), "the next start is an ordinary one")

	// A forged one is not accepted.
	require.NoError(t, s.Close())
	forge(t, folder, "DELETE FROM ledger_hashes")
	s = open(t, folder)
	require.ErrorIs(t, s.AcceptRestored(t.Context(), "service"), ledger.ErrBroken)
}

// A transaction that fails after its entries leaves the book where it was.
func TestAnEntryOfAFailedTransactionIsNone(t *testing.T) {
	s := open(t, t.TempDir())
	for i := range 30 {
		err := s.InTx(t.Context(), func(tx *sql.Tx) error {
			require.NoError(t, s.Enter(t.Context(), tx, entryOf("a"), entryOf("b")))
			require.NoError(t, s.Enter(t.Context(), tx, entryOf("c")))
			if i%3 == 0 {
				return assert.AnError
			}
			return nil
		})
		assert.Equal(t, i%3 == 0, err != nil)
	}
	report, err := s.LedgerVerify(t.Context())
	require.NoError(t, err)
	assert.True(t, report.OK(), "%v", report.Problems)
	assert.Equal(t, int64(1+20*3), report.Entries)
	kept, err := s.FolderWitness().Load()
	require.NoError(t, err)
	checkpoint, _, err := s.LedgerCheckpoint(t.Context())
	require.NoError(t, err)
	assert.Equal(t, checkpoint, kept, "the witness has the last head")
}

func TestOneServiceADatabase(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	_, err := Open(t.Context(), folder, s.Now)
	require.ErrorIs(t, err, database.ErrHeld)
	assert.Contains(t, err.Error(), fmt.Sprintf("process %d", os.Getpid()), "it says who")
	require.NoError(t, s.Close())
	s, err = Open(t.Context(), folder, s.Now)
	require.NoError(t, err, "the lock ends with its holder")
	require.NoError(t, s.Close())
}

func TestADatabaseThatCannotBeUsedIsTold(t *testing.T) {
	fresh := func() string {
		folder := t.TempDir()
		s := open(t, folder)
		for i := range 300 {
			require.NoError(t, s.Record(t.Context(), entryOf(strings.Repeat("x", i))))
		}
		require.NoError(t, s.Close())
		return folder
	}
	folder := fresh()
	forge(t, folder, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (999, 1)")
	_, err := Open(t.Context(), folder, (&clock{}).tick)
	require.ErrorIs(t, err, database.ErrNewer)
	assert.Contains(t, err.Error(), "999")

	folder = fresh()
	file := filepath.Join(folder, database.FileName)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, []byte{0x20, 0x00}, raw[16:18], "pages of 8192 bytes")
	copy(raw[3*8192:], bytes.Repeat([]byte{0xee}, 8192*4))
	require.NoError(t, os.WriteFile(file, raw, 0o600))
	_, err = Open(t.Context(), folder, (&clock{}).tick)
	require.ErrorIs(t, err, database.ErrDamaged)
	assert.Contains(t, err.Error(), file)
	assert.Contains(t, err.Error(), "backup")

	require.NoError(t, os.WriteFile(file, []byte("this is no database, whatever its name says"), 0o600))
	_, err = Open(t.Context(), folder, (&clock{}).tick)
	require.ErrorIs(t, err, database.ErrDamaged)
}

// A copied file is a whole one: what is in the log goes into it often, and at
// the end.
func TestTheFileAloneIsWhole(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	for i := range 400 {
		require.NoError(t, s.SetMeta(t.Context(), "big", bytes.Repeat([]byte{byte(i)}, 100_000)))
	}
	info, err := os.Stat(filepath.Join(folder, database.FileName))
	require.NoError(t, err)
	assert.Greater(t, info.Size(), int64(100_000), "also while it runs")
	wal, err := os.Stat(filepath.Join(folder, database.FileName+"-wal"))
	require.NoError(t, err)
	assert.Less(t, wal.Size(), int64(16<<20))
	require.NoError(t, s.Close())
	alone := t.TempDir()
	raw, err := os.ReadFile(filepath.Join(folder, database.FileName))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(alone, database.FileName), raw, 0o600))
	s = open(t, alone)
	value, err := s.Meta(t.Context(), "big")
	require.NoError(t, err)
	assert.Len(t, value, 100_000)
}

// Many write at once: the book follows the order of the transactions.
func TestManyRecordAtOnce(t *testing.T) {
	s := open(t, t.TempDir())
	var all sync.WaitGroup
	for i := range 40 {
		all.Add(1)
		go func() {
			defer all.Done()
			for range 10 {
				assert.NoError(t, s.Record(t.Context(), entryOf(fmt.Sprint("by ", i))))
			}
		}()
	}
	all.Wait()
	report, err := s.LedgerVerify(t.Context())
	require.NoError(t, err)
	assert.True(t, report.OK(), "%v", report.Problems)
	assert.Equal(t, int64(401), report.Entries)
}
