package service

// Roles of people. A person may have several; separation of duties is made by
// giving them to different people.
const (
	RoleViewer        = "viewer"        // reads the picture
	RoleOperator      = "operator"      // surveys, custody, rotations
	RoleApprover      = "approver"      // approves what somebody else asks for, and host keys
	RoleAuditor       = "auditor"       // reads and verifies the ledger
	RoleAdministrator = "administrator" // people, stewards, systems
)

// Roles lists all roles.
var Roles = []string{RoleViewer, RoleOperator, RoleApprover, RoleAuditor, RoleAdministrator}

// public marks operations that need no sign-in; anyone marks those that need a
// sign-in and no role.
const (
	public = "public"
	anyone = "anyone"
)

var (
	readers   = []string{RoleViewer, RoleOperator, RoleApprover, RoleAuditor, RoleAdministrator}
	operators = []string{RoleOperator}
)

// access is the one table that decides who may call which operation. An
// operation that is not in it cannot be registered, and a test walks it.
var access = map[string][]string{
	"get-status": {public},
	"set-up":     {public},
	"sign-in":    {public},
	"sign-out":   {anyone},
	"get-me":     {anyone}, "change-own-password": {anyone},
	"list-tokens": {anyone}, "add-token": {anyone}, "revoke-token": {anyone},

	"list-users": {RoleAdministrator, RoleAuditor}, "add-user": {RoleAdministrator}, "change-user": {RoleAdministrator},

	"list-stewards": {RoleAdministrator, RoleOperator, RoleAuditor}, "save-steward": {RoleAdministrator}, "remove-steward": {RoleAdministrator},

	"list-kinds": readers, "list-systems": readers, "get-system": readers,
	"add-system": {RoleAdministrator, RoleOperator}, "change-system": {RoleAdministrator, RoleOperator}, "import-systems": {RoleAdministrator, RoleOperator},
	"remove-system": {RoleAdministrator}, "get-removal": readers, "confirm-absence": operators, "check-system": {RoleAdministrator, RoleOperator}, "approve-host-key": {RoleApprover},

	"list-common-options": readers, "set-common-option": {RoleAdministrator, RoleOperator}, "remove-common-option": {RoleAdministrator, RoleOperator},

	"list-surveys": readers, "get-survey": readers, "list-visits": readers, "watch-survey": readers,
	"start-survey": operators, "cancel-survey": operators,

	"list-accounts": readers, "get-account": readers, "resolve-account": readers,
	"list-dependents": readers, "get-dependent": readers, "explain-dependent": operators, "start-dependents": operators, "set-check": operators, "decide-copy": operators, "remove-check": operators,

	"get-radius": readers, "list-uses": readers, "search": readers, "list-sockets": readers, "list-declarations": readers,
	"declare-use": operators, "withdraw-use": operators, "import-uses": operators,

	"take-custody": operators, "verify-custody": operators, "verify-all-custody": operators, "release-custody": operators,

	"list-credentials": readers, "get-credential": readers, "resolve-credential": readers, "note-credential": operators,

	"rehearse": operators, "get-rehearsal": readers, "start-rotation": operators, "override-rotation": operators, "decide-rotation": operators, "rehearse-undo": operators,
	"list-rotations": readers, "get-rotation": readers, "watch-rotation": readers, "list-journal": readers,

	"list-approvals": readers, "get-approval": readers, "approve": {RoleApprover}, "refuse-approval": {RoleApprover, RoleOperator, RoleAdministrator},

	"list-findings": readers, "get-overview": readers, "watch-all": readers,

	"list-ledger": {RoleAuditor, RoleOperator, RoleApprover, RoleAdministrator}, "verify-ledger": {RoleAuditor, RoleAdministrator}, "get-checkpoint": {RoleAuditor, RoleAdministrator},
	"prove-ledger": {RoleAuditor, RoleAdministrator}, "export-ledger": {RoleAuditor, RoleAdministrator},
}

// allowed decides for a person with roles.
func allowed(operation string, roles []string) bool {
	for _, need := range access[operation] {
		if need == anyone {
			return true
		}
		for _, have := range roles {
			if have == need {
				return true
			}
		}
	}
	return false
}
