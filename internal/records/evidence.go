package records

// Evidence is what the ledger says of something, with the proof that it does.
type Evidence struct {
	Checkpoint string          `json:"checkpoint" doc:"The signed head that the proofs are held against: a note with a signature"`
	Verifier   string          `json:"verifier" doc:"The public key of that signature"`
	Size       int64           `json:"size" doc:"Entries of the ledger at that head"`
	Entries    []EvidenceEntry `json:"entries" nullable:"false" doc:"In their order"`
}

// EvidenceEntry is an entry of the ledger with its proof.
type EvidenceEntry struct {
	Index  int64    `json:"index"`
	Line   string   `json:"line" doc:"The entry to the letter: the leaf of the tree of RFC 6962, section 2.1"`
	Hashes []string `json:"hashes" nullable:"false" doc:"The audit path from the leaf to the head (section 2.1.1), base64"`
}
