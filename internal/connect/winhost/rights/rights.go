// Package rights reads who may do what on a windows host, as far as the classes that are read
// there tell it: who lies in which local group, and what the groups that every host has give.
//
// User rights (such as to log on as a service) and the permissions of services are told by no
// class that is read. So no reading is complete, and what a charter misses there is unknown.
package rights

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/privilege"
)

// Ask enumerates the instances of a class.
type Ask func(class, where string, each func(*wsman.Instance) error) error

// Incomplete is why a reading of rights never is.
const Incomplete = "user rights and permissions of services are not read: local groups, and what those that every host has give, are"

// gives are what groups of every host give, by the end of their identifiers S-1-5-32-
// ([MS-DTYP], section 2.4.2.4): the names differ by language.
var gives = map[string][]privilege.Entry{
	"544": {{Verb: privilege.VerbEverything, Text: "member of the local administrators"}},
	"547": {{Verb: "share folders", Text: "member of the local power users"}},
	"551": {{Verb: "read every file", Text: "member of the local backup operators"}, {Verb: "write every file", Text: "member of the local backup operators"}},
	"555": {{Verb: privilege.VerbSignIn, What: "by remote desktop", Text: "member of the local remote desktop users"}},
	"562": {{Verb: "launch components", Text: "member of the local users of distributed components"}},
	"573": {{Verb: "read event logs", Text: "member of the local readers of event logs"}},
	"578": {{Verb: privilege.VerbEverything, What: "virtual machines", Text: "member of the local administrators of virtual machines"}},
	"580": {{Verb: privilege.VerbSignIn, What: "by remote management", Text: "member of the local users of remote management"}},
}

// groupsAtOnce is how many groups one question is about: hosts refuse long ones.
const groupsAtOnce = 25

// mostMembers is how many members of groups are read.
const mostMembers = 50_000

// Read reads groups and members of the host called name.
func Read(ctx context.Context, target connect.Target, name string, ask Ask, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	t := connect.RightsTaker{Emit: emit}
	var r connect.Rights
	var problems []connect.Unread
	ids := map[string]string{} // of principals, by DOMAIN\name in small letters
	note := func(p privilege.Principal, spelled string) {
		if key := strings.ToLower(spelled); ids[key] == "" {
			ids[key] = p.ID
			r.Principals = append(r.Principals, p)
		}
	}
	if err := ask("Win32_UserAccount", "LocalAccount=TRUE", func(i *wsman.Instance) error {
		if sid := i.Text("SID"); sid != "" {
			note(privilege.Principal{ID: sid, Kind: privilege.KindAccount, Name: i.Text("Name")}, name+`\`+i.Text("Name"))
		}
		return nil
	}); err != nil {
		return t.Coverage, err
	}
	var groups []string
	whole := []privilege.Object{{Kind: privilege.ObjectSystem, Name: target.Name}}
	if err := ask("Win32_Group", "LocalAccount=TRUE", func(i *wsman.Instance) error {
		sid, group := i.Text("SID"), i.Text("Name")
		if sid == "" || group == "" {
			problems = append(problems, connect.Unread{Stage: connect.StageRead, Place: "Win32_Group", What: fmt.Sprintf("a local group %q without an identifier", group)})
			return nil
		}
		groups = append(groups, group)
		note(privilege.Principal{ID: sid, Kind: privilege.KindGroup, Name: group}, name+`\`+group)
		l := privilege.List{Key: "group:" + sid, Decides: privilege.DecidesAny, Objects: whole}
		end, builtIn := strings.CutPrefix(sid, "S-1-5-32-")
		for _, e := range gives[end] {
			if builtIn {
				e.To, e.Source = sid, group
				l.Entries = append(l.Entries, e)
			}
		}
		if len(l.Entries) > 0 {
			r.Lists = append(r.Lists, l)
		}
		return nil
	}); err != nil {
		return t.Coverage, err
	}
	for some := range slices.Chunk(groups, groupsAtOnce) {
		conditions := make([]string, len(some))
		for i, group := range some {
			conditions[i] = "GroupComponent=" + wsman.Quote(fmt.Sprintf(`Win32_Group.Domain="%s",Name="%s"`, name, group))
		}
		if err := ask("Win32_GroupUser", strings.Join(conditions, " or "), func(i *wsman.Instance) error {
			group, ok := i.Reference("GroupComponent")
			part, found := i.Reference("PartComponent")
			if !ok || !found || !strings.EqualFold(group.Selector("Domain"), name) || len(r.Memberships) >= mostMembers {
				return nil
			}
			member := part.Selector("Domain") + `\` + part.Selector("Name")
			kind := privilege.KindAccount // of its domain; what a class says of a group it is, too
			if strings.HasSuffix(strings.ToLower(part.URI), "win32_group") {
				kind = privilege.KindGroup
			}
			note(privilege.Principal{ID: "name:" + strings.ToLower(member), Kind: kind, Name: member}, member)
			r.Memberships = append(r.Memberships, privilege.Membership{Member: ids[strings.ToLower(member)], Group: ids[strings.ToLower(name+`\`+group.Selector("Name"))]})
			return nil
		}); err != nil {
			return t.Coverage, err
		}
	}
	if len(r.Memberships) >= mostMembers {
		problems = append(problems, connect.Unread{Stage: connect.StageRead, Place: "Win32_GroupUser", What: fmt.Sprintf("there are more than %d members", mostMembers)})
	}
	t.Missing(&problems, connect.Unread{Stage: connect.StageRead, Place: "rights", What: Incomplete})
	return t.Coverage, t.Take(r, problems)
}
