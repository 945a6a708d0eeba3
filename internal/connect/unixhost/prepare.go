package unixhost

import (
	"path"
	"slices"
	"strings"
	"unicode"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/reading"
	"mossledger.example/moss/internal/connect/unixhost/rights"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege/sudo"
)

// unprintable names are told in no rule: what ends a line would begin another one.
func unprintable(name string) bool {
	return name == "" || strings.ContainsFunc(name, func(c rune) bool { return unicode.IsControl(c) || unicode.In(c, unicode.Cf, unicode.Zl, unicode.Zp) })
}

// Prepare implements connect.Preparer. What it prints is what TestPreparedHost puts on a real
// host, and reads, rehearses and rotates with.
func (Connector) Prepare(target connect.Target, known connect.Known) []connect.Preparation {
	name := connect.PlainName(target.Steward.Account, "mossmgr")
	where := "as root on " + target.Name
	key := estate.FirstLine(known.PublicKey)
	rules := func(lines ...string) string {
		return name + " ALL=(root) NOPASSWD: " + strings.Join(lines, ", \\\n    ") + "\n"
	}
	sudoers := func(purpose, what, file string, text string) connect.Preparation {
		return connect.Preparation{For: purpose, What: what, Where: where + ", into /etc/sudoers.d/" + file + ": visudo -cf FILE, then install it with the mode 440", Language: "sudoers", Text: text}
	}
	out := []connect.Preparation{
		signIn(name, key, where),
		sudoers(connect.ForRead, "to read the state of passwords, crontabs and what failed units said", name+"-read", "Defaults:"+name+" !lecture, !requiretty\n"+rules("/usr/bin/passwd -S -a", "/usr/bin/chage -l -i ^[A-Za-z0-9_.-]+$", "/usr/bin/crontab -l -u ^[A-Za-z0-9_.-]+$", "/usr/bin/ls -1 -- /var/spool/cron/crontabs", "/usr/bin/journalctl ^--no-pager -q -o cat -n 3 -u [A-Za-z0-9@:_.-]+$")),
		sudoers(connect.ForFind, "to find copies that nothing names, the programs behind connections, and who signed in: with it every file of the host can be read, and none written", name+"-find", rules(reading.SearchRights(target.Options)...)),
		sudoers(connect.ForRights, "to read who may do what: the rules of sudo, and permissions of files in closed folders (regular expressions take sudo 1.9.10)", name+"-rights", rules(append([]string{"/usr/bin/cat -- /etc/sudoers", "/usr/bin/ls -1 -- /etc/sudoers.d", `/usr/bin/cat ^-- /etc/sudoers\.d/[A-Za-z0-9_-]+$`}, rights.ListRights()...)...)),
	}
	// chage and the others have arguments before the name: an expression is of all of them.
	out[1].Text = strings.NewReplacer("chage -l -i ^", "chage ^-l -i ", "crontab -l -u ^", "crontab ^-l -u ").Replace(out[1].Text)
	if len(known.Files) > 0 || len(known.Units) > 0 {
		out = append(out, sudoers(connect.ForRotate, "to replace the copies that are known, and restart what uses them; nothing else can be written", name+"-rotate", rules(rotateRights(known)...)))
	}
	out = append(out, sudoers(connect.ForEnd, "to set when accounts end, to shut and to delete them, those of administrators too; entries of keys it writes by what is there to rotate", name+"-end", rules(endRights()...)))
	return append(out, sudoers(connect.ForAmend, "to give and take memberships of groups, and commands by a file of their own: with it every account can be made an administrator, its own too", name+"-amend", rules(amendRights()...)))
}

// endRights are the commands that a change of an end runs.
func endRights() []string {
	const word, date = "[a-z_][A-Za-z0-9_.-]*", "(-1|[0-9]{4}-[0-9]{2}-[0-9]{2})"
	return []string{
		"/usr/sbin/usermod ^(-[LU] )?-e " + date + " " + word + "$", "/usr/sbin/usermod ^-[LU] " + word + "$",
		"/usr/bin/chage ^-d (0|" + date + ") " + word + "$", "/usr/sbin/userdel ^" + word + "$",
	}
}

// amendRights are the commands that a change of rights runs.
func amendRights() []string {
	const word, file, left = "[A-Za-z0-9_.-]+", `/etc/sudoers\.d/charter-[A-Za-z0-9_-]+`, `/etc/sudoers\.d/\.charter-[A-Za-z0-9_-]+\.moss-new`
	return []string{
		"/usr/sbin/usermod ^-aG " + word + " " + word + "$", "/usr/bin/gpasswd ^-d " + word + " " + word + "$", "/usr/sbin/groupadd ^-r " + word + "$",
		"/usr/bin/cat ^-- " + file + "$", "/usr/bin/rm ^-f -- (" + file + "|" + left + ")$", "/usr/bin/dd ^of\\=" + left + " conv\\=fsync status\\=none$", "/usr/bin/chmod ^440 -- " + left + "$",
		"/usr/sbin/visudo ^-c -q( -f " + left + ")?$", "/usr/bin/mv ^-fT -- " + left + " " + file + "$", "/usr/bin/sync -- " + sudoFolder, "/usr/bin/sudo ^-l -U " + word + " -u " + word + " -- .+$",
	}
}

// signIn makes the account, with a key where the steward has one.
func signIn(name, key, where string) connect.Preparation {
	if key == "" {
		return connect.Preparation{For: connect.ForSignIn, What: "the account " + name + "; its password is asked for", Where: where, Language: "sh", Text: "useradd -r -m -s /bin/bash " + name + "\npasswd " + name + "\n"}
	}
	return connect.Preparation{For: connect.ForSignIn, What: "the account " + name + ", which signs in with a key and has no password", Where: where, Language: "sh", Text: "useradd -r -m -s /bin/bash " + name + "\ninstall -d -m700 -o " + name + " -g " + name + " ~" + name + "/.ssh\necho '" + strings.ReplaceAll(strings.TrimSpace(key), "'", "") + "' > ~" + name + "/.ssh/authorized_keys\nchown " + name + ": ~" + name + "/.ssh/authorized_keys\nchmod 600 ~" + name + "/.ssh/authorized_keys\n"}
}

// rotateRights are the commands that a rotation runs for files and units.
func rotateRights(known connect.Known) []string {
	var out []string
	for _, file := range known.Files {
		if unprintable(file) || !path.IsAbs(file) {
			continue
		}
		folder, base := path.Split(file)
		file, left, folder := sudo.Word(file), sudo.Word(folder+"."+base+".moss-new"), sudo.Word(path.Clean(folder))
		for _, line := range []string{
			"/usr/bin/stat -c %h|%f -- " + file, "/usr/bin/cat -- " + file, "/usr/bin/rm -f -- " + left, "/usr/bin/cp -a -- " + file + " " + left, `/usr/bin/dd of\=` + left + ` conv\=fsync status\=none`, "/usr/bin/mv -fT -- " + left + " " + file, "/usr/bin/sync -- " + folder,
		} {
			if !slices.Contains(out, line) {
				out = append(out, line)
			}
		}
	}
	for verb, units := range map[string][]string{"reload ": known.Reload, "restart ": known.Units} {
		for _, unit := range units {
			if !unprintable(unit) {
				out = append(out, "/usr/bin/systemctl "+verb+sudo.Word(unit))
			}
		}
	}
	slices.Sort(out)
	return out
}
