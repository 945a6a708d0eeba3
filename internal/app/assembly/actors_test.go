package assembly_test

import "mossledger.example/moss/internal/app/access"

// Who acts in these tests. Each has the roles of everybody: what a role may do is
// tested where it is decided.
var (
	ines = access.Actor{Name: "ines", Roles: access.Roles()}
	ben  = access.Actor{Name: "ben", Roles: access.Roles()}
	eve  = access.Actor{Name: "eve", Roles: access.Roles()}
	ola  = access.Actor{Name: "ola", Roles: access.Roles()}
)
