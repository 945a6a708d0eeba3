package building

import (
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/rotation"
)

// Manage makes a plan of changes of managed accounts in a directory. Each begins when the one
// before it is proven: a group is permitted for an account that is there.
func Manage(subject, systemID, system string, changes []managed.AccountChange, onFailure rotation.OnFailure) rotation.Plan {
	p := amend(rotation.KindManage, subject, onFailure)
	for _, c := range changes {
		p.proven = []int{p.change(rotation.StepManage, rotation.Step{SystemID: systemID, System: system, Subject: c.Name, Managed: &c}, p.proven...)}
	}
	return p.plan
}
