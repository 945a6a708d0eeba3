package reading

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
)

// What passwd says of the state of a password, by distribution and version.
func TestPasswordStatesInEveryDialect(t *testing.T) {
	const local = "tide:x:1001:1001::/var/lib/tide:/bin/sh\nshut:x:1002:1002::/:/bin/sh\nopen:x:1003:1003::/:/bin/sh\nodd:x:1004:1004::/:/bin/sh\n"
	for name, text := range map[string]string{
		"shadow 4.13": "root P 2026-03-02 0 99999 7 -1\ntide P 2026-03-02 0 90 7 -1\nshut L 2026-03-02 0 99999 7 -1\nopen NP 2026-03-02 0 99999 7 -1\nodd ? 2026-03-02 0 99999 7 -1\n",
		"shadow 4.5":  "tide P 03/02/2026 0 90 7 -1\nshut L 03/02/2026 0 99999 7 -1\nopen NP 03/02/2026 0 99999 7 -1\nodd X\n",
		"RHEL":        "tide PS 2026-03-02 0 90 7 -1 (Password set, SHA512 crypt.)\nshut LK 2026-03-02 0 99999 7 -1 (Password locked.)\nopen NP 2026-03-02 0 99999 7 -1 (Empty password.)\nodd\n",
		"pwdutils":    "tide PS 03/02/2026 0 90 7 -1\r\nshut LK 03/02/2026 0 99999 7 -1\r\nopen NP 03/02/2026 0 99999 7 -1\r\n\nnot one of them\n",
	} {
		list, problems := parsePasswd(local, "m")
		require.Empty(t, problems, name)
		addStatus(list, text)
		by := map[string]estate.Account{}
		for _, a := range list {
			by[a.Name] = a
		}
		assert.Equal(t, estate.Yes, by["tide"].Enabled, name)
		assert.Equal(t, estate.No, by["tide"].Locked, name)
		assert.Equal(t, "2026-05-31", by["tide"].PasswordExpires.Format(time.DateOnly), name)
		assert.Equal(t, estate.Yes, by["shut"].Locked, name)
		assert.Equal(t, estate.No, by["shut"].Enabled, name)
		assert.True(t, by["shut"].NeverExpire, name)
		assert.Equal(t, estate.Yes, by["open"].Enabled, "%s: an empty password is one", name)
		assert.Equal(t, estate.Unknown, by["odd"].Enabled, "%s: what is not understood says nothing", name)
	}
}

// What chage says of the end of an account.
func TestEndsOfAccountsInEveryDialect(t *testing.T) {
	for text, want := range map[string]string{
		"Last password change\t\t\t\t\t: 2026-03-02\nAccount expires\t\t\t\t\t\t: 2027-01-09\n":                                "2027-01-09",
		"Last password change\t\t\t\t\t: Mar 02, 2026\nPassword expires\t\t\t\t\t: never\nAccount expires\t\t: Jan 09, 2027\n": "2027-01-09",
		"Account expires\t\t: Jan  9, 2027\n":                               "2027-01-09",
		"Minimum:\t0\nMaximum:\t90\nAccount Expires:        Jan 09, 2027\n": "2027-01-09",
		"Account expires\t\t\t: never\n":                                    "",
		"Password expires\t: 2027-01-09\n":                                  "",
		"Konto läuft ab\t: 2027-01-09\n":                                    "",
		"Account expires: somewhen\n":                                       "",
		"":                                                                  "",
	} {
		got := ""
		if end := expiry(text); !end.IsZero() {
			got = end.Format(time.DateOnly)
		}
		assert.Equal(t, want, got, "%q", text)
	}
}

// Lines of passwd(5) that take in users of a directory are no users of the host.
func TestPasswdOfHostsWithADirectory(t *testing.T) {
	list, problems := parsePasswd("root:x:0:0:root:/root:/bin/bash\n# by hand\n+@ferries::::::\n-odile.kern::::::\n+::::::\ntide:x:1001:1001:Tide tables,,,:/var/lib/tide:/bin/sh\nbroken:x:abc:1:::\nshort:x\n", "m")
	require.Len(t, list, 2)
	assert.Equal(t, "root", list[0].Name)
	assert.Equal(t, "system", list[0].Type)
	assert.Equal(t, "m:1001", list[1].StableID)
	assert.Equal(t, "Tide tables", list[1].DisplayName)
	require.Len(t, problems, 2, "%v", problems)
	assert.Equal(t, "passwd line 7", problems[0].Place)
}

// Units as systemd of several versions shows them: before 232 without an invocation,
// before 246 with one argument list only, and with properties that are not asked for.
func TestUnitsOfSeveralVersions(t *testing.T) {
	for name, text := range map[string]string{
		"219": "Id=tide.service\nDescription=Tide\nLoadState=loaded\nActiveState=active\nSubState=running\nUser=tide\nEnvironmentFile=/etc/tide.env (ignore_errors=no)\nExecStart={ path=/opt/tide ; argv[]=/opt/tide --password-file=/etc/tide.pw ; ignore_errors=no ; start_time=[Mon 2026-03-02 10:00:00 CET] ; stop_time=[n/a] ; pid=812 ; code=(null) ; status=0/0 }\nRequires=basic.target db.service\nAfter=db.service basic.target\n",
		"239": "Id=tide.service\nDescription=Tide\nLoadState=loaded\nActiveState=active\nSubState=running\nUser=tide\nEnvironmentFiles=/etc/tide.env (ignore_errors=no)\nExecStart={ path=/opt/tide ; argv[]=/opt/tide --password-file=/etc/tide.pw ; ignore_errors=no ; start_time=[n/a] ; stop_time=[n/a] ; pid=0 ; code=(null) ; status=0/0 }\nRequires=db.service\nAfter=db.service\nInvocationID=\n",
		"252": "Id=tide.service\nDescription=Tide\nLoadState=loaded\nActiveState=active\nSubState=running\nUser=tide\nEnvironmentFiles=/etc/tide.env (ignore_errors=no)\nExecStart={ path=/opt/tide ; argv[]=/opt/tide --password-file=/etc/tide.pw ; ignore_errors=no ; start_time=[n/a] ; stop_time=[n/a] ; pid=0 ; code=(null) ; status=0/0 }\nExecStartEx={ path=/opt/tide ; argv[]=/opt/tide --password-file=/etc/tide.pw ; flags= ; start_time=[n/a] ; stop_time=[n/a] ; pid=0 ; code=(null) ; status=0/0 }\nRequires=db.service\nAfter=db.service\nInvocationID=9bc08e3e982b62bf8f1351d5a5ae57f2\nNewProperty=\n",
	} {
		units := ParseShow(text)
		require.Len(t, units, 1, name)
		u := units[0]
		assert.Equal(t, "tide", u.RunsAs, name)
		assert.Contains(t, u.Requires, "db.service", name)
		files := argumentFiles(u.Executable)
		require.Len(t, files, 2, name)
		assert.Equal(t, "/etc/tide.pw", files[1].path, name)
		assert.Equal(t, []environmentFile{{"/etc/tide.env", false}}, u.environment, name)
	}
}

// Tables of cron as distributions ship them.
func TestCrontabsAsDistributionsShipThem(t *testing.T) {
	for name, c := range map[string]struct {
		table, text, user string
		want              []string // who and what
	}{
		"Debian":  {"/etc/crontab", "SHELL=/bin/sh\n# m h dom mon dow user\tcommand\n17 *\t* * *\troot\tcd / && run-parts --report /etc/cron.hourly\n25 6\t* * *\troot\ttest -x /usr/sbin/anacron || { cd / && run-parts --report /etc/cron.daily; }\n", "", []string{"root cd / && run-parts --report /etc/cron.hourly", "root test -x /usr/sbin/anacron || { cd / && run-parts --report /etc/cron.daily; }"}},
		"RHEL":    {"/etc/cron.d/0hourly", "# Run the hourly jobs\nSHELL=/bin/bash\nPATH=/sbin:/bin:/usr/sbin:/usr/bin\nMAILTO=root\n01 * * * * root run-parts /etc/cron.hourly\n", "", []string{"root run-parts /etc/cron.hourly"}},
		"SUSE":    {"/etc/crontab", "SHELL=/bin/sh\nPATH=/usr/bin:/usr/sbin:/sbin:/bin:/usr/lib/news/bin\nMAILTO=root\n-*/15 * * * *   root  test -x /usr/lib/cron/run-crons && /usr/lib/cron/run-crons >/dev/null 2>&1\n", "", []string{"root test -x /usr/lib/cron/run-crons && /usr/lib/cron/run-crons >/dev/null 2>&1"}},
		"anacron": {"/etc/anacrontab", "SHELL=/bin/sh\nRANDOM_DELAY=45\nSTART_HOURS_RANGE=3-22\n\n#period in days   delay in minutes   job-identifier   command\n1\t5\tcron.daily\t\tnice run-parts /etc/cron.daily\n@monthly 45\tcron.monthly\t\tnice run-parts /etc/cron.monthly\n", "", []string{"root nice run-parts /etc/cron.daily", "root nice run-parts /etc/cron.monthly"}},
		"busybox": {"/etc/crontabs/root", "# min\thour\tday\tmonth\tweekday\tcommand\n*/15\t*\t*\t*\t*\trun-parts /etc/periodic/15min\n", "root", []string{"root run-parts /etc/periodic/15min"}},
		"own":     {"/var/spool/cron/tide", "MAILTO=\"\"\n@reboot /opt/tide/start\n0 2 * * 1-5 /opt/tide/night --password-file=/etc/tide.pw\n", "tide", []string{"tide /opt/tide/start", "tide /opt/tide/night --password-file=/etc/tide.pw"}},
	} {
		entries, problems := parseCron(c.table, c.text, c.user)
		assert.Empty(t, problems, name)
		var got []string
		for _, e := range entries {
			got = append(got, e.RunsAs+" "+e.Executable)
		}
		assert.Equal(t, c.want, got, name)
	}
}
