package rights

import (
	"context"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"mvdan.cc/sh/v3/pattern"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

const sshdConfig = "/etc/ssh/sshd_config"

// directive is a line of sshd_config(5).
type directive struct {
	name, value string
	match       string // of the Match block that it stands in; "" for none
	place       string
}

// signIn reads whom the SSH server lets in: AllowUsers, DenyUsers, AllowGroups, DenyGroups
// and PermitRootLogin (sshd_config(5)). What a Match block says is told as not sure,
// for it depends on where somebody comes from.
func (h *host) signIn(ctx context.Context) *connect.Failure {
	r := h.Run(ctx, nil, "/usr/bin/cat", "--", sshdConfig)
	switch {
	case r.Err != nil:
		return h.Failure(connect.StageRead, r, "cat "+sshdConfig)
	case r.Exit != 0 && strings.Contains(r.Errs, "No such file"):
		return nil
	}
	text, failure := h.ReadFile(ctx, sshdConfig)
	if failure != nil {
		return failure
	}
	directives, failure := h.directives(ctx, sshdConfig, string(text), "", 0)
	if failure != nil {
		return failure
	}
	h.Lists = append(h.Lists, privilege.List{Key: "sshd", Decides: privilege.DecidesFirst, Objects: []privilege.Object{{Kind: "service", Name: "SSH server"}}, Entries: h.letIn(directives)})
	return nil
}

// directives reads the lines of a file, those that it includes in their place.
func (h *host) directives(ctx context.Context, file, text, match string, depth int) ([]directive, *connect.Failure) {
	var out []directive
	number := 0
	for line := range strings.Lines(text) {
		number++
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		name, value := line, ""
		if cut := strings.IndexAny(line, " \t="); cut > 0 {
			name, value = line[:cut], strings.Trim(strings.TrimLeft(line[cut:], " \t="), `"`)
		}
		name = strings.ToLower(name)
		switch name {
		case "match":
			if match = value; strings.EqualFold(strings.TrimSpace(value), "all") {
				match = ""
			}
		case "include":
			if depth > 8 {
				continue
			}
			for glob := range strings.FieldsSeq(value) {
				if !path.IsAbs(glob) {
					glob = path.Join("/etc/ssh", glob)
				}
				more, failure := h.matching(ctx, glob, match, depth)
				if failure != nil {
					return nil, failure
				}
				out = append(out, more...)
			}
		case "allowusers", "denyusers", "allowgroups", "denygroups", "permitrootlogin":
			out = append(out, directive{name, value, match, file + ":" + strconv.Itoa(number)})
		}
	}
	return out, nil
}

// matching reads the files that a pattern names, which have the Match block of the line.
func (h *host) matching(ctx context.Context, glob, match string, depth int) ([]directive, *connect.Failure) {
	folder, base := path.Split(glob)
	names := []string{base}
	if strings.ContainsAny(base, "*?[") {
		r := h.Run(ctx, nil, "/usr/bin/ls", "-1", "--", folder)
		if r.Err != nil {
			return nil, h.Failure(connect.StageRead, r, "ls "+folder)
		}
		names = nil
		for name := range strings.Lines(string(r.Out)) {
			if name = strings.TrimRight(name, "\n"); shellMatches(base, name) {
				names = append(names, name)
			}
		}
	}
	var out []directive
	for _, name := range names {
		text, failure := h.ReadFile(ctx, folder+name)
		if failure != nil {
			if failure.Code == connect.CodeUnreachable || failure.Code == connect.CodeTimeout {
				return nil, failure
			}
			h.taker.Missing(&h.problems, connect.Unread{Stage: connect.StageRead, Place: folder + name, What: failure.Words, Next: failure.Next})
			continue
		}
		more, failure := h.directives(ctx, folder+name, string(text), match, depth+1)
		if failure != nil {
			return nil, failure
		}
		out = append(out, more...)
	}
	return out, nil
}

func shellMatches(glob, text string) bool {
	expression, err := pattern.Regexp(glob, pattern.EntireString)
	if err != nil {
		return false
	}
	ok, err := regexp.MatchString(expression, text)
	return err == nil && ok
}

// letIn works out for each account what the directives say, in the server's own order:
// DenyUsers, AllowUsers, DenyGroups, AllowGroups.
func (h *host) letIn(directives []directive) []privilege.Entry {
	var out []privilege.Entry
	all := map[string][]directive{}
	unsure := ""
	for _, d := range directives {
		if d.match != "" {
			unsure = d.place + ": in a block Match " + d.match
			continue
		}
		all[d.name] = append(all[d.name], d)
	}
	for _, p := range h.Principals {
		if p.Kind != privilege.KindAccount {
			continue
		}
		e := privilege.Entry{To: p.ID, Verb: privilege.VerbSignIn, Unsure: unsure}
		e.Deny, e.Text, e.Source = h.refused(all, p)
		e.Default = !e.Deny && e.Source == sshdConfig // no line names it
		out = append(out, e)
	}
	return out
}

func (h *host) refused(all map[string][]directive, p privilege.Principal) (refused bool, text, source string) {
	users := func(name string) (directive, bool) {
		return which(all[name], func(word string) bool {
			user, _, _ := strings.Cut(word, "@") // from where is not seen here
			return shellMatches(user, p.Name)
		})
	}
	groups := func(name string) (directive, bool) {
		return which(all[name], func(word string) bool {
			return slices.ContainsFunc(h.of[p.ID], func(group string) bool { return shellMatches(word, group) })
		})
	}
	if p.ID == h.byUID["0"] {
		if root := all["permitrootlogin"]; len(root) > 0 && strings.EqualFold(root[0].value, "no") {
			return true, "PermitRootLogin no", root[0].place
		}
	}
	var by directive
	for _, step := range []struct {
		name  string
		match func(string) (directive, bool)
		deny  bool
	}{{"denyusers", users, true}, {"allowusers", users, false}, {"denygroups", groups, true}, {"allowgroups", groups, false}} {
		d, hit := step.match(step.name)
		switch {
		case step.deny && hit:
			return true, words[step.name] + " " + d.value, d.place
		case !step.deny && !hit && len(all[step.name]) > 0:
			return true, "not in " + words[step.name], all[step.name][0].place
		case !step.deny && hit:
			by = d
		}
	}
	if by.name != "" {
		return false, words[by.name] + " " + by.value, by.place
	}
	return false, "nothing keeps it out", sshdConfig
}

var words = map[string]string{"denyusers": "DenyUsers", "allowusers": "AllowUsers", "denygroups": "DenyGroups", "allowgroups": "AllowGroups"}

// which finds the directive with a word that matches. A word with a ! takes back.
func which(list []directive, match func(word string) bool) (directive, bool) {
	for _, d := range list {
		hit := false
		for word := range strings.FieldsSeq(d.value) {
			if rest, not := strings.CutPrefix(word, "!"); not && match(rest) {
				hit = false
				break
			} else if !not && match(word) {
				hit = true
			}
		}
		if hit {
			return d, true
		}
	}
	return directive{}, false
}
