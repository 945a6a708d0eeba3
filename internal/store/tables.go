// Package store knows SQL and tables, alone. What is seen of the estate is here:
// systems, accounts, dependents, findings and surveys; persons and what they wait
// for are in people, credentials and their rotations in custody, what became of things
// in changes, windows and policies in policies, who is told in messages, and what all of them stand on is in database.
package store

import (
	"context"
	"time"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/amendments"
	"mossledger.example/moss/internal/store/batches"
	"mossledger.example/moss/internal/store/changes"
	"mossledger.example/moss/internal/store/charters"
	"mossledger.example/moss/internal/store/custody"
	"mossledger.example/moss/internal/store/database"
	"mossledger.example/moss/internal/store/ends"
	"mossledger.example/moss/internal/store/labels"
	"mossledger.example/moss/internal/store/messages"
	"mossledger.example/moss/internal/store/people"
	"mossledger.example/moss/internal/store/policies"
	"mossledger.example/moss/internal/store/proofs"
	"mossledger.example/moss/internal/store/rights"
	"mossledger.example/moss/internal/store/risks"
	"mossledger.example/moss/internal/store/traces"
)

// Store is an open database with its tables. Safe for concurrent use.
type Store struct {
	*database.DB
	*people.People
	*custody.Custody
	*changes.Log
	*labels.Labels
	*policies.Tables
	*batches.Batches
	*messages.Messages
	*rights.Rights
	*charters.Book
	*risks.Ranking
	*traces.Recorded
	*amendments.Kept
	*proofs.Shelf
	*ends.Calendar
}

// Open opens or creates the database in a folder and brings it up to date. It
// belongs to this process until Close: a second one is refused (ErrHeld).
func Open(ctx context.Context, folder string, now func() time.Time) (*Store, error) {
	return openWith(ctx, database.Driver, folder, now)
}

func openWith(ctx context.Context, driver, folder string, now func() time.Time) (*Store, error) {
	db, err := database.Open(ctx, driver, folder, now)
	if err != nil {
		return nil, err
	}
	s := &Store{DB: db, People: &people.People{DB: db}, Custody: &custody.Custody{DB: db}, Log: &changes.Log{DB: db}, Labels: &labels.Labels{DB: db}, Tables: &policies.Tables{DB: db}, Batches: &batches.Batches{DB: db}, Messages: &messages.Messages{DB: db}, Rights: &rights.Rights{DB: db}, Book: &charters.Book{DB: db}, Ranking: &risks.Ranking{DB: db}, Recorded: &traces.Recorded{DB: db}, Kept: &amendments.Kept{DB: db}, Shelf: &proofs.Shelf{DB: db}, Calendar: &ends.Calendar{DB: db}}
	db.TellTrouble = s.tellLedger
	return s, nil
}

// tellLedger raises or clears the finding about the ledger. Findings are no acts:
// they can be written although the ledger cannot.
func (s *Store) tellLedger(ctx context.Context, trouble error) error {
	const key = "ledger/"
	if trouble == nil {
		return s.SetFindings(ctx, key, nil)
	}
	return s.SetFindings(ctx, key, []records.Finding{{
		Key: key + "broken", Kind: "ledger", Severity: "high", Subject: "the ledger", What: trouble.Error() + "; every act is refused",
		Next: "run 'moss ledger verify' to see what was altered; restore the database that belongs to this master key, or, after restoring an older one on purpose, start the service once with --accept-restored",
	}})
}

// RightsSeen is what one reading of rights saw; NewRightsSeen is that of one that begins.
type RightsSeen = rights.RightsSeen

// RightsReading is how one ended.
type RightsReading = rights.Reading

// NewRightsSeen makes one.
func NewRightsSeen() *RightsSeen { return rights.NewRightsSeen() }
