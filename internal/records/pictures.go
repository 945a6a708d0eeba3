package records

// Share is how many of something there are in a part of a picture.
type Share struct {
	Of    string `json:"of" doc:"A site, an end, an age, a kind, a day: see the picture"`
	Is    string `json:"is" doc:"Which of them: see the picture"`
	Count int    `json:"count"`
}

// Pictures are counts for the drawings of the first page. Ends and ages are of
// enabled accounts that are there, and only of passwords; what is not known is
// counted as unknown.
type Pictures struct {
	Coverage  []Share `json:"coverage" nullable:"false" doc:"Systems by site: read (completely, at the latest attempt), before (completely, but not at the latest attempt), never"`
	Ends      []Share `json:"ends" nullable:"false" doc:"Accounts by when their password ends: past, 7, 30, 90, later (days), never, unknown"`
	Ages      []Share `json:"ages" nullable:"false" doc:"Accounts by how old their password is: 30, 90, 365, 1095 (at most so many days), older, unknown"`
	Findings  []Share `json:"findings" nullable:"false" doc:"Open findings by kind, and how long they are open: 1, 7, 30 (at most so many days), older"`
	Rotations []Share `json:"rotations" nullable:"false" doc:"Rotations of the last 30 days by day of their beginning, in UTC, and result; those that have none yet by their mode"`
}
