package lab_test

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/lab"
)

const treeOf = "dc=larkmoor,dc=example"

// rulesOf makes access rules as people write them, and as they do not.
func rulesOf(r *rand.Rand) string {
	units := []string{"ou=services," + treeOf, "ou=groups," + treeOf, treeOf, "uid=svc-one,ou=services," + treeOf, "cn=crew,ou=groups," + treeOf}
	people := []string{"uid=svc-one,ou=services," + treeOf, "uid=svc-two,ou=services," + treeOf, "uid=mossmgr,ou=people," + treeOf}
	groups := []string{"cn=crew,ou=groups," + treeOf, "cn=deck,ou=groups," + treeOf}
	pick := func(list []string) string { return list[r.Intn(len(list))] }
	var out strings.Builder
	for i := range 2 + r.Intn(4) {
		what := pick([]string{"*", "dn.exact=\"" + pick(units) + "\"", "dn.base=\"" + pick(units) + "\"", "dn.subtree=\"" + pick(units) + "\"", "dn.children=\"" + pick(units) + "\"", "dn.one=\"" + pick(units) + "\"", ""})
		attrs := pick([]string{"", " attrs=userPassword", " attrs=member", " attrs=userPassword,member", " attrs=member,uniqueMember,cn"})
		if what == "" && attrs == "" {
			what = "*"
		}
		fmt.Fprintf(&out, "olcAccess: {%d}to %s", i+2, strings.TrimSpace(what+attrs))
		for range 1 + r.Intn(3) {
			who := pick([]string{"dn.exact=\"" + pick(people) + "\"", "group.exact=\"" + pick(groups) + "\"", "group=\"" + pick(groups) + "\"", "dn.subtree=\"ou=services," + treeOf + "\"", "dn.children=\"ou=people," + treeOf + "\"", "users", "self", "anonymous"})
			fmt.Fprintf(&out, " by %s %s", who, pick([]string{"write", "read", "none", "manage", "=w", "=rscxd", "auth"}))
		}
		out.WriteString(pick([]string{" by * none", " by * break", "", " by users read by * none", " by * read"}) + "\n")
	}
	return out.String()
}

// Access rules of OpenLDAP: what is read of them is what the server's own tool says, for each
// account on each account's password and each group's members.
func TestAccessRules(t *testing.T) {
	account := func(name string) string {
		return fmt.Sprintf("dn: uid=%[1]s,ou=services,%[2]s\nobjectClass: inetOrgPerson\nuid: %[1]s\ncn: %[1]s\nsn: x\nuserPassword: %[3]s\n\n", name, treeOf, lab.AccountPassword)
	}
	group := func(name string, members ...string) string {
		text := fmt.Sprintf("dn: cn=%[1]s,ou=groups,%[2]s\nobjectClass: groupOfNames\ncn: %[1]s\nmember: %[2]s\n", name, treeOf)
		for _, m := range members {
			text += "member: uid=" + m + ",ou=services," + treeOf + "\n"
		}
		return text + "\n"
	}
	entries := account("svc-one") + account("svc-two") + group("crew", "svc-one") + group("deck", "svc-two", "svc-one")
	compared, unsure := 0, 0
	for seed := range int64(25) {
		rules := rulesOf(rand.New(rand.NewSource(seed)))
		manager := `dn.exact="uid=mossmgr,ou=people,` + treeOf + `"`
		first := "olcAccess: {0}to attrs=userPassword by anonymous auth by " + manager + " read by * break\nolcAccess: {1}to * by " + manager + " read by * break\n"
		d := lab.RuledOpenLDAP(t, "127.0.0.161", 38961+int(seed), first+rules+"olcAccess: {99}to * by users read by anonymous auth\n", entries)
		model, coverage := modelOf(t, directory.Connector{}, d.Target("ldap"), nil)
		require.True(t, coverage.Complete, coverage.Why)
		for _, who := range []string{"svc-one", "svc-two"} {
			ids := model.Graph.Named(func(p privilege.Principal) bool { return p.Name == who }, privilege.KindAccount)
			for _, object := range []struct{ kind, name, dn, attribute, verb string }{
				{"account", "svc-one", "uid=svc-one,ou=services," + treeOf, "userPassword", "reset password"},
				{"account", "svc-two", "uid=svc-two,ou=services," + treeOf, "userPassword", "reset password"},
				{"group", "crew", "cn=crew,ou=groups," + treeOf, "member", "write members"},
				{"group", "deck", "cn=deck,ou=groups," + treeOf, "member", "write members"},
			} {
				if object.name == who || len(ids) == 0 { // what somebody has on himself is not told
					continue
				}
				q := privilege.Question{Verb: object.verb, Object: privilege.Object{Kind: object.kind, Name: object.name}}
				decision := model.Decide(ids[0], q)
				if decision.Unsure != "" {
					unsure++
					continue
				}
				compared++
				require.Equal(t, d.MayWrite(t, "uid="+who+",ou=services,"+treeOf, object.dn, object.attribute), decision.Allowed, "seed %d: %s may %s of %s:\n%s%+v", seed, who, object.verb, object.name, rules, decision)
			}
		}
	}
	require.Greater(t, compared, 60)
	t.Logf("%d answers compared, of %d we are not sure", compared, unsure)
}
