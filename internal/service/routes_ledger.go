package service

import (
	"context"
	"net/http"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Checkpoint is the ledger's signed head.
type Checkpoint struct {
	Checkpoint string `json:"checkpoint" doc:"A signed note (open format): origin, size, hash of the tree, signature"`
	Verifier   string `json:"verifier" doc:"Public key to verify it with: keep it elsewhere"`
}

// Verification is what verifying the ledger found.
type Verification struct {
	OK bool `json:"ok"`
	ledger.Report
}

// Proof shows that the ledger of now begins with an earlier one.
type Proof struct {
	Checkpoint
	From   int64    `json:"from"`
	Hashes []string `json:"hashes" nullable:"false" doc:"Consistency proof, RFC 6962 section 2.1.2, in base64"`
}

// LedgerLines are lines of an export.
type LedgerLines struct {
	Lines []string `json:"lines" nullable:"false" doc:"Each with its newline; without it, it is the leaf byte for byte"`
}

type verifyInput struct {
	Body *struct {
		Checkpoints []string `json:"checkpoints,omitempty" maxItems:"100" doc:"Signed heads that were kept elsewhere"`
	}
}

type proofInput struct {
	From int64 `query:"from" minimum:"1" doc:"Size that was signed earlier"`
}

type linesInput struct {
	From  int64 `query:"from" minimum:"0" doc:"Index of the first entry"`
	Limit int   `query:"limit" minimum:"1" maximum:"5000" default:"1000"`
}

func (s *Service) registerLedger() {
	add(s, http.MethodGet, "/ledger", "list-ledger", "List ledger entries, the newest first", func(ctx context.Context, in *ListInput) (*body[records.Page[ledger.Entry]], error) {
		return answer(s.store.LedgerList(ctx, in.Query()))
	})
	add(s, http.MethodPost, "/ledger/verify", "verify-ledger", "Recompute the whole ledger and hold it against its signed checkpoint, and against earlier ones", func(ctx context.Context, in *verifyInput) (*body[Verification], error) {
		var kept []string
		if in.Body != nil {
			kept = in.Body.Checkpoints
		}
		report, err := s.store.LedgerVerify(ctx, kept...)
		return answer(Verification{report.OK(), report}, err)
	})
	add(s, http.MethodGet, "/ledger/checkpoint", "get-checkpoint", "Show the signed checkpoint", func(ctx context.Context, _ *empty) (*body[Checkpoint], error) {
		checkpoint, verifier, err := s.store.LedgerCheckpoint(ctx)
		return answer(Checkpoint{checkpoint, verifier}, err)
	})
	add(s, http.MethodGet, "/ledger/proof", "prove-ledger", "Prove that the ledger of now begins with the one that was signed at an earlier size", func(ctx context.Context, in *proofInput) (*body[Proof], error) {
		checkpoint, proof, err := s.store.LedgerProof(ctx, in.From)
		if err != nil {
			return nil, err
		}
		_, verifier, err := s.store.LedgerCheckpoint(ctx)
		out := Proof{Checkpoint: Checkpoint{checkpoint, verifier}, From: in.From, Hashes: []string{}}
		for _, hash := range proof {
			out.Hashes = append(out.Hashes, hash.String())
		}
		return answer(out, err)
	})
	add(s, http.MethodGet, "/ledger/lines", "export-ledger", "Lines of an export, for verifying it elsewhere", func(ctx context.Context, in *linesInput) (*body[LedgerLines], error) {
		lines, err := s.store.LedgerLines(ctx, in.From, in.Limit)
		if lines == nil {
			lines = []string{}
		}
		return answer(LedgerLines{lines}, err)
	})
}
