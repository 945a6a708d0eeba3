// Package olc reads access rules of OpenLDAP's own configuration (slapd.access(5)) and says
// what they give on one attribute of one entry.
//
// Rules are looked at in their order. The first that is about the entry and the attribute
// decides, by the first of its clauses that is about who asks; a clause that ends with break
// has the next rules looked at. Who no clause is about has nothing. What depends on something
// that is not seen here (regular expressions, filters, values, addresses, strength of the
// connection) is told as not sure.
package olc

import (
	"fmt"
	"slices"
	"strings"
)

// Rule is one rule.
type Rule struct {
	Text   string // as it stands
	Style  string // of DN: exact, one, subtree, children; "" for any entry
	DN     string
	Attrs  []string // in small letters; none for all
	Unsure string   // why it is not known what it is about
	By     []Clause
}

// Clause says what somebody has.
type Clause struct {
	Text   string
	Who    Who
	Writes bool // its level lets write
	Adds   bool // it changes what an earlier clause gave: +w, -w
	Breaks bool // the rules that follow are looked at
	Unsure string
}

// Who is who asks.
type Who struct {
	Kind  string // any, users, anonymous, self, dn, group
	Style string // of dn
	DN    string
}

// Parse reads a rule; its number in braces may stand before it.
func Parse(text string) (Rule, error) {
	r := Rule{Text: strings.Join(strings.Fields(text), " ")}
	words, err := words(text)
	if err != nil {
		return r, err
	}
	if len(words) > 0 && strings.HasPrefix(words[0], "{") {
		_, words[0], _ = strings.Cut(words[0], "}")
	}
	if len(words) == 0 || words[0] != "to" {
		return r, fmt.Errorf("it does not begin with to")
	}
	at := 1
	for ; at < len(words) && words[at] != "by"; at++ {
		r.about(words[at])
	}
	for at < len(words) {
		end := at + 1
		for end < len(words) && words[end] != "by" {
			end++
		}
		c, err := clause(words[at+1 : end])
		if err != nil {
			return r, err
		}
		r.By = append(r.By, c)
		at = end
	}
	return r, nil
}

// words takes a rule apart as the server does: blanks part words but in double quotes, and a
// backslash takes the next letter as it is. No shell's rules are these.
func words(text string) (out []string, err error) {
	var b strings.Builder
	begun, quoted := false, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			quoted, begun = !quoted, true
		case c == '\\' && i+1 < len(text):
			i++
			b.WriteByte(text[i])
			begun = true
		case !quoted && (c == ' ' || c == '\t' || c == '\n' || c == '\r'):
			if begun {
				out = append(out, b.String())
			}
			b.Reset()
			begun = false
		default:
			b.WriteByte(c)
			begun = true
		}
	}
	if quoted {
		return nil, fmt.Errorf("its quotes do not end")
	}
	if begun {
		out = append(out, b.String())
	}
	return out, nil
}

var styles = map[string]string{"": "exact", "exact": "exact", "base": "exact", "baseObject": "exact", "one": "one", "onelevel": "one", "sub": "subtree", "subtree": "subtree", "children": "children"}

// about reads what a rule is about.
func (r *Rule) about(word string) {
	name, value, has := strings.Cut(word, "=")
	kind, style, _ := strings.Cut(name, ".")
	switch {
	case word == "*":
	case kind == "dn" && has && styles[style] != "":
		r.Style, r.DN = styles[style], value
		if value == "*" {
			r.Style, r.DN = "", ""
		}
	case (kind == "attrs" || kind == "attr") && has && !strings.ContainsAny(value, "@!"):
		for a := range strings.SplitSeq(value, ",") {
			r.Attrs = append(r.Attrs, strings.ToLower(a))
		}
	default:
		r.Unsure = "it depends on " + word
	}
}

// levels in their order; those from write on let write.
var levels = []string{"none", "disclose", "auth", "compare", "search", "read", "add", "delete", "write", "manage"}

func clause(words []string) (Clause, error) {
	c := Clause{Text: "by " + strings.Join(words, " ")}
	if len(words) == 0 {
		return c, fmt.Errorf("a clause has nobody")
	}
	level := ""
	for i, w := range words {
		plain := strings.TrimPrefix(strings.TrimPrefix(w, "self"), "real")
		switch {
		case i == 0:
			c.Who, c.Unsure = who(w)
		case w == "stop":
		case w == "continue":
			c.Unsure = "it says continue"
		case w == "break":
			c.Breaks = true
		case slices.Contains(levels, plain) || strings.HasPrefix(plain, "=") || strings.HasPrefix(plain, "+") || strings.HasPrefix(plain, "-"):
			level = plain
			if plain != w {
				c.Unsure = "it is given for itself only"
			}
		default: // a further condition
			c.Unsure = "it depends on " + w
		}
	}
	switch {
	case strings.HasPrefix(level, "="):
		c.Writes = strings.ContainsAny(level, "wm")
	case strings.HasPrefix(level, "+"), strings.HasPrefix(level, "-"):
		c.Adds, c.Writes = true, level[0] == '+' && strings.ContainsAny(level, "wm")
	case level == "" && c.Breaks: // +0: nothing is given, and nothing taken
		c.Adds = true
	default:
		c.Writes = slices.Index(levels, level) >= slices.Index(levels, "write")
	}
	return c, nil
}

func who(word string) (Who, string) {
	name, value, has := strings.Cut(word, "=")
	kind, style, _ := strings.Cut(name, ".")
	group := strings.HasPrefix(kind, "group")
	switch {
	case word == "*":
		return Who{Kind: "any"}, ""
	case word == "users", word == "anonymous", word == "self":
		return Who{Kind: word}, ""
	case kind == "dn" && has && value == "*":
		return Who{Kind: "users"}, ""
	case kind == "dn" && has && styles[style] != "":
		return Who{Kind: "dn", Style: styles[style], DN: value}, ""
	case group && has && (style == "" || style == "exact" || style == "base") && (kind == "group" || strings.EqualFold(kind, "group/groupOfNames") || strings.EqualFold(kind, "group/groupOfNames/member")):
		return Who{Kind: "group", DN: value}, ""
	}
	return Who{Kind: "any"}, "it depends on " + word
}

// Within says whether a distinguished name is one that a style means; both are folded.
func Within(dn, style, base string) bool {
	below := strings.HasSuffix(dn, ","+base) || base == "" && dn != ""
	switch style {
	case "":
		return true
	case "exact":
		return dn == base
	case "subtree":
		return dn == base || below
	case "children":
		return below
	case "one":
		rest := strings.TrimSuffix(dn, ","+base)
		return below && !strings.Contains(strings.ReplaceAll(rest, `\,`, ""), ",")
	}
	return false
}

// Given is one clause that is about an entry, in the order in which they are looked at.
type Given struct {
	Clause
	Rule int // number among the rules
}

// Of are the clauses that decide about an attribute (in small letters) of an entry, until one
// that is about everybody. dn is folded by fold, as names in rules are.
func Of(rules []Rule, dn, attribute string, fold func(string) string) (out []Given) {
	for n, r := range rules {
		if !Within(dn, r.Style, fold(r.DN)) || len(r.Attrs) > 0 && !slices.Contains(r.Attrs, attribute) {
			continue
		}
		if r.Unsure != "" { // it may be about it, and then nothing after it counts
			out = append(out, Given{Clause{Text: r.Text, Who: Who{Kind: "any"}, Unsure: r.Unsure, Writes: true}, n})
			return out
		}
		breaks := false
		for _, c := range r.By {
			if c.Breaks && c.Adds && !c.Writes && c.Unsure == "" && (c.Who.Kind == "any" || c.Who.Kind == "users") {
				breaks = true
				break
			}
			if c.Breaks || c.Adds { // what comes of several rules together is not reckoned
				c.Unsure, c.Writes = "several rules decide together", true
			}
			out = append(out, Given{c, n})
			if c.Who.Kind == "any" || c.Who.Kind == "users" {
				return out
			}
		}
		if !breaks {
			return out // whoever is left has nothing
		}
	}
	return out
}
