package charter

import (
	"fmt"
	"slices"
	"strings"
)

// Changed is one thing that is otherwise in another version of a charter.
type Changed struct{ Field, From, To string }

// Diff lists what is otherwise: of lists, each thing that came or went.
func Diff(was, is *Document) (out []Changed) {
	field := func(name, from, to string) {
		if from != to {
			out = append(out, Changed{name, from, to})
		}
	}
	field("description", was.Description, is.Description)
	field("label", was.Label, is.Label)
	lists := func(name string, from, to []string) {
		for _, one := range from {
			if !slices.Contains(to, one) {
				field(name, one, "")
			}
		}
		for _, one := range to {
			if !slices.Contains(from, one) {
				field(name, "", one)
			}
		}
	}
	lists("must", itemWords(was.Must), itemWords(is.Must))
	lists("may", itemWords(was.May), itemWords(is.May))
	lists("never", itemWords(was.Never), itemWords(is.Never))
	lists("account", was.Account.words(), is.Account.words())
	lists("one_on", was.OneOn, is.OneOn)
	lists("groups", groupWords(was.Groups), groupWords(is.Groups))
	return out
}

func itemWords(items []Item) (out []string) {
	for _, i := range items {
		out = append(out, i.Words()+onWords(i.On)+becauseWords(i.Because))
	}
	return out
}

func groupWords(groups []Group) (out []string) {
	for _, g := range groups {
		out = append(out, g.Name+onWords(g.On)+becauseWords(g.Because))
	}
	return out
}

func onWords(on []string) string {
	if len(on) == 0 {
		return ""
	}
	return " [" + strings.Join(on, ", ") + "]"
}

func becauseWords(because string) string {
	if because == "" {
		return ""
	}
	return " (" + because + ")"
}

func (a *Account) words() (out []string) {
	if a == nil {
		return nil
	}
	for _, f := range []struct {
		name string
		is   *bool
	}{{"enabled", a.Enabled}, {"password_expires", a.PasswordExpires}, {"account_ends", a.AccountEnds}, {"shell", a.Shell}} {
		if f.is != nil {
			out = append(out, fmt.Sprintf("%s: %t", f.name, *f.is))
		}
	}
	if a.PasswordChangedWithin > 0 {
		out = append(out, fmt.Sprintf("password_changed_within: %d", a.PasswordChangedWithin))
	}
	return out
}
