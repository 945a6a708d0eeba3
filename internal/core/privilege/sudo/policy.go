// Package sudo reads the rules of sudo and says what they allow, by the manual
// sudoers(5) of version 1.9.
//
// A policy is made of files that include each other. Parse reads them into Rules, one
// for each command of each line, in their order, with all aliases replaced by what
// they stand for: the last rule that matches decides, and one that is negated
// forbids. What a line says that is not understood is a Problem with its place; sudo
// itself passes over such a line and goes on, and so does this.
//
// Nothing is asked of a host: what a verdict depends on beside the text (whether two
// paths are one file, the digest of a file, a net group) the World tells.
package sudo

import (
	"fmt"
	"path"
	"strconv"
	"strings"
)

// ItemKind is what an item of a list names.
type ItemKind string

// Kinds of items.
const (
	ItemAll      ItemKind = "ALL"
	ItemName     ItemKind = "name"  // a user, a host
	ItemID       ItemKind = "id"    // a number of a user
	ItemGroup    ItemKind = "group" // of users
	ItemGroupID  ItemKind = "group id"
	ItemNetGroup ItemKind = "net group"
	ItemForeign  ItemKind = "foreign group" // of another source than the system's own
	ItemAddress  ItemKind = "address"       // of a host, or its network
	ItemSelf     ItemKind = "self"          // whoever asks
)

// Item is one of a list of users, hosts or run-as users.
type Item struct {
	Not  bool
	Kind ItemKind
	Name string
}

func (i Item) String() string {
	prefix := map[ItemKind]string{ItemID: "#", ItemGroup: "%", ItemGroupID: "%#", ItemNetGroup: "+", ItemForeign: "%:"}[i.Kind]
	name := i.Name
	switch i.Kind {
	case ItemAll:
		name = "ALL"
	case ItemSelf:
		name = ""
	}
	if i.Not {
		return "!" + prefix + name
	}
	return prefix + name
}

// Digest is one that a file must have.
type Digest struct {
	Algorithm string // sha224, sha256, sha384, sha512
	Sum       string // hexadecimal, in small letters
}

// Command is what a rule allows to be run.
type Command struct {
	All     bool
	Path    string // a path, a folder that ends with /, a pattern, a regular expression, sudoedit or list
	Args    string // as they are compared; Given says that the rule has them
	Given   bool
	Digests []Digest // one of which the file must have
}

// Tags are what a rule adds to a command.
type Tags struct {
	NoPassword, NoExec, SetEnv *bool
	Other                      []string // as they are written
}

// Rule is one command of one line.
type Rule struct {
	Users, Hosts    []Item
	RunAs, RunGroup []Item
	RunAsGiven      bool // without it the default decides
	Command         Command
	Deny            bool
	Tags            Tags
	Options         map[string]string // CWD, TIMEOUT, NOTBEFORE, ...
	Place           string            // file and line
	Text            string            // the command as it is written, with its tags
}

// Default is a setting, for all or for some.
type Default struct {
	Scope string // "", "user", "host", "command", "run as"
	Users []Item
	Hosts []Item
	Cmnds []Command
	Name  string
	Value string
	Off   bool
	Place string
}

// Problem is a line that was not understood.
type Problem struct{ Place, What string }

// Policy is what the files say.
type Policy struct {
	Rules    []Rule
	Defaults []Default
	Problems []Problem
	Files    []string
}

// File is one of a policy.
type File struct {
	Path string
	Text string
}

// Include gives the files that a path or, with dir, a folder stands for. An error is a
// problem of the line that names it.
type Include func(p string, dir bool) ([]File, error)

// Limits on what is believed of a host: how deep files may include each other (sudoers(5):
// 128) and how many are read, and into how many items aliases and lists may unfold. Files
// that include each other twice, and aliases that name each other twice, double with each
// step.
const (
	maxDepth = 128
	maxFiles = 1000
	maxItems = 200_000
)

// Parse reads a policy. host is the name of the host, for %h in paths of includes.
func Parse(file File, host string, include Include) *Policy {
	p := &parser{policy: &Policy{}, host: host, include: include, users: aliases{}, runAs: aliases{}, hosts: aliases{}, commands: map[string][]command{}}
	p.file(file, 0)
	p.expand()
	return p.policy
}

type aliases map[string][]Item

// command is one of a list that may be an alias.
type command struct {
	not   bool
	alias string
	is    Command
	text  string
}

// spec is a line of rules before its aliases are replaced.
type spec struct {
	users []Item
	parts []part
	place string
}

type part struct {
	hosts    []Item
	commands []granted
}

type granted struct {
	command
	runAs, runGroup []Item
	runAsGiven      bool
	tags            Tags
	options         map[string]string
}

// setting is a line of Defaults before its aliases are replaced.
type setting struct {
	Default
	commands []command
}

type parser struct {
	policy              *Policy
	host                string
	include             Include
	users, runAs, hosts aliases
	commands            map[string][]command
	specs               []spec
	settings            []setting
	at                  string
	full                bool // files
	unfolded            int  // items
}

// unfold counts items, and says once that there are too many.
func (p *parser) unfold(n int) bool {
	before := p.unfolded
	p.unfolded += n
	if p.unfolded > maxItems && before <= maxItems {
		p.problem(fmt.Sprintf("aliases and lists stand for more than %d items: the rest is not read", maxItems))
	}
	return p.unfolded <= maxItems
}

func (p *parser) problem(what string) {
	p.policy.Problems = append(p.policy.Problems, Problem{p.at, what})
}

// file reads the lines of one.
func (p *parser) file(f File, depth int) {
	if len(p.policy.Files) == maxFiles {
		if !p.full {
			p.full = true
			p.problem(fmt.Sprintf("more than %d files are included: the rest is not read", maxFiles))
		}
		return
	}
	p.policy.Files = append(p.policy.Files, f.Path)
	for number, line := range logical(f.Text) {
		p.at = f.Path + ":" + number
		if name, dir, found := directive(line); found {
			p.included(f.Path, name, dir, depth)
			continue
		}
		if err := p.line(line); err != nil {
			p.problem(err.Error())
		}
	}
}

// directive reads @include and @includedir, and the same with a #.
func directive(line string) (name string, dir, found bool) {
	line = strings.TrimLeft(line, " \t")
	if line == "" || line[0] != '@' && line[0] != '#' {
		return "", false, false
	}
	rest, dir := strings.CutPrefix(line[1:], "includedir")
	if !dir {
		var is bool
		if rest, is = strings.CutPrefix(line[1:], "include"); !is {
			return "", false, false
		}
	}
	if rest == "" || rest[0] != ' ' && rest[0] != '\t' && rest[0] != '"' {
		return "", false, false
	}
	rest = strings.Trim(rest, " \t")
	if strings.HasPrefix(rest, `"`) && strings.HasSuffix(rest, `"`) && len(rest) > 1 {
		return rest[1 : len(rest)-1], dir, true
	}
	var out strings.Builder
	for i := 0; i < len(rest); i++ { // blanks are escaped
		if rest[i] == '\\' && i+1 < len(rest) {
			i++
		} else if rest[i] == '#' || rest[i] == ' ' || rest[i] == '\t' {
			break
		}
		out.WriteByte(rest[i])
	}
	return out.String(), dir, true
}

func (p *parser) included(from, name string, dir bool, depth int) {
	if depth >= maxDepth {
		p.problem("too many levels of includes")
		return
	}
	short, _, _ := strings.Cut(p.host, ".")
	name = strings.ReplaceAll(name, "%h", short)
	if !path.IsAbs(name) {
		name = path.Join(path.Dir(from), name)
	}
	if p.include == nil {
		p.problem("what " + name + " has is not known")
		return
	}
	files, err := p.include(name, dir)
	if err != nil {
		p.problem(err.Error())
	}
	for _, f := range files {
		if base := path.Base(f.Path); dir && (strings.HasSuffix(base, "~") || strings.Contains(base, ".")) {
			continue
		}
		p.file(f, depth+1)
	}
}

// logical yields lines, those that end with a backslash put together with the next, and
// the number of the first of each.
func logical(text string) func(yield func(number, line string) bool) {
	return func(yield func(number, line string) bool) {
		lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
		for i := 0; i < len(lines); i++ {
			first, line := i, lines[i]
			if continues(line) {
				var whole strings.Builder
				for ; i+1 < len(lines) && continues(lines[i]); i++ {
					part := lines[i]
					if i > first {
						part = strings.TrimLeft(part, " \t")
					}
					whole.WriteString(part[:len(part)-1] + " ")
				}
				line = whole.String() + strings.TrimLeft(lines[i], " \t")
				if continues(lines[i]) && i == first { // at the end of the file
					line = lines[i]
				}
			}
			if !yield(strconv.Itoa(first+1), line) {
				return
			}
		}
	}
}

// continues reports whether a line goes on in the next: it ends with a backslash that is
// not itself escaped, and is no comment.
func continues(line string) bool {
	n := 0
	for n < len(line) && line[len(line)-1-n] == '\\' {
		n++
	}
	return n%2 == 1
}
