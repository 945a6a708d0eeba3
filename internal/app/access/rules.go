package access

import (
	"fmt"

	"mossledger.example/moss/internal/app"
)

// Action is something that may be done: an operation of the API, by its id.
type Action string

// Actions that activities decide on, with what they are done to. Reading is
// decided at the edge.
const (
	AddUser            Action = "add-user"
	ChangeUser         Action = "change-user"
	RevokeToken        Action = "revoke-token"
	ListSessions       Action = "list-sessions"
	EndSession         Action = "end-session"
	ListTokens         Action = "list-tokens"
	AddToken           Action = "add-token"
	ChangeOwnPassword  Action = "change-own-password"
	SaveSteward        Action = "save-steward"
	RemoveSteward      Action = "remove-steward"
	AddSystem          Action = "add-system"
	ChangeSystem       Action = "change-system"
	ImportSystems      Action = "import-systems"
	RemoveSystem       Action = "remove-system"
	ConfirmAbsence     Action = "confirm-absence"
	CheckSystem        Action = "check-system"
	ApproveHostKey     Action = "approve-host-key"
	SetCommonOption    Action = "set-common-option"
	RemoveCommonOption Action = "remove-common-option"
	StartSurvey        Action = "start-survey"
	PreviewRule        Action = "preview-rule"
	SaveRule           Action = "save-rule"
	RemoveRule         Action = "remove-rule"
	PutLabel           Action = "put-label"
	DropLabel          Action = "drop-label"
	PreviewWindow      Action = "preview-window"
	SaveWindow         Action = "save-window"
	RemoveWindow       Action = "remove-window"
	PreviewPolicy      Action = "preview-policy"
	SavePolicy         Action = "save-policy"
	RemovePolicy       Action = "remove-policy"
	SaveOrder          Action = "save-order"
	RemoveOrder        Action = "remove-order"
	AddTandem          Action = "add-tandem"
	RemoveTandem       Action = "remove-tandem"
	FreezeAll          Action = "freeze"
	ThawAll            Action = "thaw"
	AddBatch           Action = "add-batch"
	StartBatch         Action = "start-batch"
	StopBatch          Action = "stop-batch"
	RetryBatch         Action = "retry-batch"
	SaveRequirement    Action = "save-requirement"
	PreviewCharter     Action = "preview-charter"
	SaveCharter        Action = "save-charter"
	RemoveCharter      Action = "remove-charter"
	CheckCharter       Action = "check-charter"
	RehearseAmendment  Action = "rehearse-amendment"
	RehearseEnds       Action = "rehearse-ends"
	StartAmendment     Action = "start-amendment"
	DecideAmendment    Action = "decide-amendment"
	StartProof         Action = "start-proof"
	StopProof          Action = "stop-proof"
	RunProbe           Action = "run-probe"
	StartTrace         Action = "start-trace"
	StopTrace          Action = "stop-trace"
	CheckManaged       Action = "check-managed"
	RehearseManaged    Action = "rehearse-managed"
	RehearseHosts      Action = "rehearse-hosts"
	RehearseRemoval    Action = "rehearse-removal"

	PreviewConfiguration Action = "preview-configuration"
	ApplyConfiguration   Action = "apply-configuration"
	RemoveRequirement    Action = "remove-requirement"
	SaveRecipient        Action = "save-recipient"
	RemoveRecipient      Action = "remove-recipient"
	TestRecipient        Action = "test-recipient"
	RetryMessages        Action = "retry-messages"
	CancelSurvey         Action = "cancel-survey"
	ExplainDependent     Action = "explain-dependent"
	StartDependents      Action = "start-dependents"
	SetCheck             Action = "set-check"
	RemoveCheck          Action = "remove-check"
	SetLimit             Action = "set-limit"
	DecideCopy           Action = "decide-copy"
	DeclareUse           Action = "declare-use"
	WithdrawUse          Action = "withdraw-use"
	ImportUses           Action = "import-uses"
	TakeCustody          Action = "take-custody"
	VerifyCustody        Action = "verify-custody"
	VerifyAllCustody     Action = "verify-all-custody"
	ReleaseCustody       Action = "release-custody"
	NoteCredential       Action = "note-credential" //nolint:gosec // the name of an action
	Rehearse             Action = "rehearse"
	RehearseUndo         Action = "rehearse-undo"
	StartRotation        Action = "start-rotation"
	OverrideRotation     Action = "override-rotation"
	DecideRotation       Action = "decide-rotation"
	LookAgain            Action = "look-again"
	Approve              Action = "approve"
	RefuseApproval       Action = "refuse-approval"
	// TrustEndpoint is no operation of its own: adding or changing a system, a
	// common option or a host key asks for it.
	TrustEndpoint Action = "trust-endpoint"
)

// public marks actions that need no sign-in; anyone those that need a sign-in and
// no role.
const (
	public = "public"
	anyone = "anyone"
)

type rule struct {
	roles  []string // one of them is needed
	duties func(Actor, Object) error
}

var (
	readers        = rule{roles: Roles()}
	operators      = rule{roles: []string{RoleOperator}}
	administrators = rule{roles: []string{RoleAdministrator}}
	inventory      = rule{roles: []string{RoleAdministrator, RoleOperator}}
	auditors       = rule{roles: []string{RoleAuditor, RoleAdministrator}}
	watchers       = rule{roles: []string{RoleAuditor, RoleAdministrator, RoleOperator}}
	everybody      = rule{roles: []string{anyone}}
)

// rules is the table of rights. What is not in it, nobody may do; an operation of
// the API that is not in it cannot be registered.
var rules = map[Action]rule{
	"get-status":          {roles: []string{public}},
	"set-up":              {roles: []string{public}},
	"sign-in":             {roles: []string{public}},
	"sign-out":            everybody,
	"get-me":              everybody,
	"get-settings":        everybody,
	"keep-setting":        everybody,
	ChangeOwnPassword:     everybody,
	ListTokens:            everybody,
	AddToken:              everybody,
	RevokeToken:           {roles: []string{anyone}, duties: owner},
	ListSessions:          everybody,
	EndSession:            {roles: []string{anyone}, duties: owner},
	"list-users":          {roles: []string{RoleAdministrator, RoleAuditor}},
	AddUser:               administrators,
	ChangeUser:            administrators,
	"list-stewards":       {roles: []string{RoleAdministrator, RoleOperator, RoleAuditor}},
	SaveSteward:           administrators,
	PreviewRule:           {roles: []string{RoleOperator, RoleAdministrator}},
	SaveRule:              administrators,
	RemoveRule:            administrators,
	PutLabel:              administrators,
	DropLabel:             administrators,
	PreviewWindow:         {roles: []string{RoleOperator, RoleAdministrator}},
	SaveWindow:            administrators,
	RemoveWindow:          administrators,
	PreviewPolicy:         {roles: []string{RoleOperator, RoleAdministrator}},
	SavePolicy:            administrators,
	PreviewCharter:        {roles: []string{RoleOperator, RoleAdministrator}},
	StartTrace:            {roles: []string{RoleOperator, RoleAdministrator}},
	StopTrace:             {roles: []string{RoleOperator, RoleAdministrator, RoleAuditor}},
	RunProbe:              {roles: []string{RoleOperator, RoleAdministrator}},
	CheckManaged:          {roles: []string{RoleOperator, RoleAdministrator}},
	RehearseManaged:       {roles: []string{RoleOperator, RoleAdministrator}},
	RehearseHosts:         {roles: []string{RoleOperator, RoleAdministrator}},
	RehearseRemoval:       {roles: []string{RoleOperator, RoleAdministrator}},
	"rehearse-permit":     {roles: []string{RoleOperator, RoleAdministrator}},
	RehearseAmendment:     {roles: []string{RoleOperator, RoleAdministrator}},
	RehearseEnds:          {roles: []string{RoleOperator, RoleAdministrator}},
	StartAmendment:        {roles: []string{RoleOperator, RoleAdministrator}},
	StartProof:            {roles: []string{RoleOperator, RoleAdministrator}},
	StopProof:             {roles: []string{RoleOperator, RoleAdministrator}},
	"list-proofs":         {roles: []string{RoleAdministrator, RoleOperator, RoleAuditor, RoleApprover}},
	"get-proof":           {roles: []string{RoleAdministrator, RoleOperator, RoleAuditor, RoleApprover}},
	DecideAmendment:       {roles: []string{RoleOperator, RoleAdministrator}},
	CheckCharter:          {roles: []string{RoleOperator, RoleAdministrator}},
	"draft-charter":       {roles: []string{RoleOperator, RoleAdministrator}},
	SaveCharter:           administrators,
	RemoveCharter:         administrators,
	RemovePolicy:          administrators,
	SaveOrder:             administrators,
	RemoveOrder:           administrators,
	AddTandem:             administrators,
	RemoveTandem:          administrators,
	FreezeAll:             {roles: []string{RoleOperator, RoleApprover, RoleAdministrator}},
	ThawAll:               {roles: []string{RoleOperator, RoleAdministrator}},
	AddBatch:              operators,
	StartBatch:            operators,
	StopBatch:             operators,
	RetryBatch:            operators,
	"list-batches":        readers,
	"get-batch":           readers,
	"list-batch-items":    readers,
	"get-rotation-report": {roles: []string{RoleAuditor, RoleAdministrator, RoleOperator}},
	"get-rotation-page":   {roles: []string{RoleAuditor, RoleAdministrator, RoleOperator}},
	"get-batch-report":    {roles: []string{RoleAuditor, RoleAdministrator, RoleOperator}},
	"get-batch-page":      {roles: []string{RoleAuditor, RoleAdministrator, RoleOperator}},
	SaveRequirement:       administrators,
	PreviewConfiguration:  watchers,
	ApplyConfiguration:    administrators,
	"get-schema":          readers,
	RemoveRequirement:     administrators,
	"list-requirements":   readers,
	"get-requirement":     readers,
	SaveRecipient:         administrators,
	RemoveRecipient:       administrators,
	TestRecipient:         administrators,
	RetryMessages:         inventory,
	"list-recipients":     watchers,
	"get-recipient":       watchers,
	"list-messages":       watchers,
	"list-event-names":    readers,
	"list-windows":        readers,
	"get-window":          readers,
	"list-policies":       readers,
	"get-policy":          readers,
	"get-account-policy":  readers,
	"list-orders":         readers,
	"list-tandems":        readers,
	"get-tandem":          readers,
	"get-order":           readers,
	"list-turns":          readers,
	"list-nights":         readers,
	"get-schedule-feed":   readers,
	"get-freeze":          readers,

	"list-rules":            readers,
	"get-rule":              readers,
	"list-rule-fields":      readers,
	"list-labels":           readers,
	"list-hand-labels":      readers,
	"list-account-labels":   readers,
	RemoveSteward:           administrators,
	"list-kinds":            readers,
	"list-systems":          readers,
	"get-system":            readers,
	AddSystem:               inventory,
	ChangeSystem:            inventory,
	ImportSystems:           inventory,
	RemoveSystem:            administrators,
	"get-removal":           readers,
	ConfirmAbsence:          operators,
	CheckSystem:             inventory,
	TrustEndpoint:           {roles: []string{RoleAdministrator, RoleOperator, RoleApprover}},
	ApproveHostKey:          {roles: []string{RoleApprover}},
	"approve-listed-keys":   {roles: []string{RoleApprover}},
	"list-common-options":   readers,
	SetCommonOption:         inventory,
	RemoveCommonOption:      inventory,
	"list-duties":           readers,
	"list-surveys":          readers,
	"list-changes":          readers,
	"get-change":            readers,
	"get-survey":            readers,
	"list-visits":           readers,
	"watch-survey":          readers,
	StartSurvey:             operators,
	CancelSurvey:            operators,
	"list-accounts":         readers,
	"get-account":           readers,
	"resolve-account":       readers,
	"list-rights":           readers,
	"list-ends":             readers,
	"list-outlived":         readers,
	"get-timeline":          readers,
	"get-forecast":          readers,
	"get-account-ends":      readers,
	"get-account-lives":     readers,
	"get-expiry-feed":       readers,
	"list-risks":            readers,
	"list-probes":           readers,
	"list-amendments":       {roles: []string{RoleAdministrator, RoleOperator, RoleAuditor, RoleApprover}},
	"get-amendment":         {roles: []string{RoleAdministrator, RoleOperator, RoleAuditor, RoleApprover}},
	"list-traces":           {roles: []string{RoleAdministrator, RoleOperator, RoleAuditor}},
	"get-trace":             {roles: []string{RoleAdministrator, RoleOperator, RoleAuditor}},
	"list-operations":       {roles: []string{RoleAdministrator, RoleOperator, RoleAuditor}},
	"list-right-holders":    readers,
	"get-account-rights":    readers,
	"get-preparation":       inventory,
	"list-charters":         readers,
	"get-charter":           readers,
	"get-charter-schema":    readers,
	"list-ready-charters":   readers,
	"list-charter-lines":    readers,
	"get-charter-matrix":    readers,
	"list-charter-versions": readers,
	"list-dependents":       readers,
	"get-dependent":         readers,
	ExplainDependent:        operators,
	StartDependents:         operators,
	SetCheck:                operators,
	DecideCopy:              operators,
	RemoveCheck:             operators,
	SetLimit:                operators,
	"get-radius":            readers,
	"list-uses":             readers,
	"search":                readers,
	"list-sockets":          readers,
	"list-declarations":     readers,
	DeclareUse:              operators,
	WithdrawUse:             operators,
	ImportUses:              operators,
	TakeCustody:             operators,
	VerifyCustody:           operators,
	VerifyAllCustody:        operators,
	ReleaseCustody:          operators,
	"list-credentials":      readers,
	"get-credential":        readers,
	"resolve-credential":    readers,
	NoteCredential:          operators,
	Rehearse:                operators,
	"get-rehearsal":         readers,
	StartRotation:           operators,
	OverrideRotation:        operators,
	DecideRotation:          operators,
	LookAgain:               operators,
	RehearseUndo:            operators,
	"list-rotations":        readers,
	"get-rotation":          readers,
	"watch-rotation":        readers,
	"list-journal":          readers,
	"list-approvals":        readers,
	"get-approval":          readers,
	Approve:                 {roles: []string{RoleApprover}, duties: asker},
	RefuseApproval:          {roles: []string{RoleApprover, RoleOperator, RoleAdministrator}, duties: approverOrAsker},
	"list-findings":         readers,
	"get-overview":          readers,
	"get-pictures":          readers,
	"watch-all":             readers,
	"list-ledger":           {roles: []string{RoleAuditor, RoleOperator, RoleApprover, RoleAdministrator}},
	"verify-ledger":         auditors,
	"get-checkpoint":        auditors,
	"prove-ledger":          auditors,
	"export-ledger":         auditors,
}

// asker: who asked for something does not approve it.
func asker(actor Actor, object Object) error {
	if actor.Is(object.AskedBy) {
		return fmt.Errorf("%w: %s asked for it: somebody else approves it", app.ErrRefused, actor.Name)
	}
	return nil
}

// approverOrAsker: a request is ended by who may approve it, or who asked for it.
func approverOrAsker(actor Actor, object Object) error {
	if !actor.Has(RoleApprover) && !actor.Is(object.AskedBy) {
		return fmt.Errorf("%w: only an approver, or who asked for it, can end a request", ErrDenied)
	}
	return nil
}

// owner: what belongs to a person is theirs, and an administrator's.
func owner(actor Actor, object Object) error {
	if !actor.Is(object.Owner) && !actor.Has(RoleAdministrator) {
		return fmt.Errorf("%w: %s %s belongs to somebody else", ErrDenied, object.Kind, object.Name)
	}
	return nil
}
