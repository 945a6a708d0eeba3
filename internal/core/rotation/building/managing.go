package building

import (
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/rotation"
)

// Managed is one change of a plan about managed accounts: of such an account in its directory, or
// of who is in a group whose members may have its password.
type Managed struct {
	Account *managed.AccountChange
	Member  *privilege.RightChange
}

// HostRestart is a host that is restarted once all changes are proven, so that it learns its groups.
type HostRestart struct {
	SystemID, System    string
	NotBefore, NotAfter time.Time // its window; zero for at once
}

// Manage makes a plan of changes of managed accounts in a directory. Each begins when the one
// before it is proven: a group is permitted for an account that is there. Hosts are restarted one
// after the other, and no further one where one does not come back.
func Manage(subject, systemID, system string, changes []Managed, restarts []HostRestart, onFailure rotation.OnFailure) rotation.Plan {
	p := amend(rotation.KindManage, subject, onFailure)
	for _, c := range changes {
		like, kind := rotation.Step{SystemID: systemID, System: system}, rotation.StepManage
		switch {
		case c.Account != nil:
			like.Subject, like.Managed = c.Account.Name, c.Account
		case c.Member.Give:
			kind, like.Subject, like.Right = rotation.StepGive, c.Member.To, c.Member
		default:
			kind, like.Subject, like.Right = rotation.StepTake, c.Member.To, c.Member
		}
		p.proven = []int{p.change(kind, like, p.proven...)}
	}
	for _, r := range restarts {
		like := rotation.Step{SystemID: r.SystemID, System: r.System, Subject: r.System, Dependent: estate.DependentHost}
		again := like
		again.NotBefore, again.NotAfter = r.NotBefore, r.NotAfter
		p.proven = []int{p.add(rotation.StepProve, like, p.add(rotation.StepRestart, again, p.proven...))}
	}
	return p.plan
}
