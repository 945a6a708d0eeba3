package records

import (
	"fmt"
	"strconv"
)

// A number of one thing is not that of another: each has a type of its own. They
// begin with 1; 0 is none.
type (
	// SystemID numbers a system.
	SystemID int64
	// AccountID numbers an account.
	AccountID int64
	// DependentID numbers a dependent.
	DependentID int64
	// CredentialID numbers a credential. It is no account's number.
	CredentialID int64
	// RehearsalID numbers a rehearsal.
	RehearsalID int64
	// RotationID numbers a rotation.
	RotationID int64
	// SecretID numbers a sealed value.
	SecretID int64
	// SurveyID numbers a survey.
	SurveyID int64
	// VisitID numbers a visit.
	VisitID int64
	// FindingID numbers a finding.
	FindingID int64
	// ApprovalID numbers an approval.
	ApprovalID int64
	// TokenID numbers a token.
	TokenID int64
	// DeclarationID numbers a declaration.
	DeclarationID int64
	// CommonOptionID numbers a common option.
	CommonOptionID int64
	// RuleID numbers a rule.
	RuleID int64
	// WindowID numbers a window.
	WindowID int64
	// PolicyID numbers a policy.
	PolicyID int64
	// RequirementID numbers a requirement.
	RequirementID int64
	// RecipientID numbers a recipient of messages.
	RecipientID int64
	// MessageID numbers a message.
	MessageID int64
	// OrderID numbers an order of restarts.
	OrderID int64
	// BatchID numbers a batch.
	BatchID int64
	// ChangeID numbers a change that was seen.
	ChangeID int64
)

// Ref names it in the ledger.
func (id CredentialID) Ref() string { return fmt.Sprintf("credential/%d", id) }

// String writes the number.
func (id SystemID) String() string { return strconv.FormatInt(int64(id), 10) }

// String writes the number.
func (id AccountID) String() string { return strconv.FormatInt(int64(id), 10) }

// String writes the number.
func (id DependentID) String() string { return strconv.FormatInt(int64(id), 10) }

// String writes the number.
func (id CredentialID) String() string { return strconv.FormatInt(int64(id), 10) }
