package reading

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseShow(t *testing.T) {
	units := ParseShow("Id=a.service\nDescription=A=b\nUser=svc\nEnvironment=X=1 \"A_USER=CN=svc,OU=Service Accounts\"\nEnvironmentFiles=/etc/a.env (ignore_errors=no)\nEnvironmentFiles=/etc/b.env (ignore_errors=yes)\n" +
		"ExecStart={ path=/bin/a ; argv[]=/bin/a --password-file=/etc/a.pw -c /etc/a.conf ; ignore_errors=no }\nActiveState=activating\nSubState=auto-restart\nAfter=b.service sysinit.target\nRequires=b.service\n\nId=b.service\nLoadState=not-found\n")
	require.Len(t, units, 2)
	a := units[0]
	assert.Equal(t, "A=b", a.Description)
	assert.Equal(t, []string{"CN=svc,OU=Service Accounts"}, a.names)
	assert.Equal(t, []environmentFile{{"/etc/a.env", false}, {"/etc/b.env", true}}, a.environment)
	assert.Equal(t, "failed", a.State, "a unit that restarts for ever is failed")
	assert.Equal(t, []string{"b.service"}, a.After)
	assert.Equal(t, []string{"b.service"}, a.Requires)
	files := argumentFiles(a.Executable)
	require.Len(t, files, 2)
	assert.Equal(t, "/etc/a.pw", files[0].path)
	assert.EqualValues(t, "credential", files[0].hint)
	assert.EqualValues(t, "", files[1].hint)
	assert.Equal(t, "root", units[1].RunsAs)
}

func TestParseCron(t *testing.T) {
	entries, problems := parseCron("/etc/cron.d/x", "# c\nPATH=/bin\n*/5 * * * * svc /bin/a b c\n@daily svc /bin/d\nnonsense\n\t1 2 3 4 5\tsvc\t/bin/e\n", "")
	require.Len(t, entries, 3)
	assert.Equal(t, "*/5 * * * *", entries[0].Schedule)
	assert.Equal(t, "svc", entries[1].RunsAs)
	assert.Equal(t, "/etc/cron.d/x:6", entries[2].Place)
	require.Len(t, problems, 1)
	assert.Equal(t, "/etc/cron.d/x line 5", problems[0].Place)
	entries, _ = parseCron("spool/svc", "0 1 * * * /bin/a\n", "svc")
	require.Len(t, entries, 1)
	assert.Equal(t, "svc", entries[0].RunsAs)
}

// Whatever a host answers, reading it ends without a panic and names nothing
// that was not said.
func FuzzHostAnswers(f *testing.F) {
	f.Add("Id=a.service\nEnvironment=\"A=b\nExecStart={ argv[]=/x ; }\n\nId=\n", "root:x:0:0:r:/root:/bin/sh\nbad\n", "* * * * * u c\n", "# /etc/x.service\nLoadCredential=a:/b\n[x\n")
	f.Add("Id=b\nUser=\n", "a:b:c:d:e:f:g\n::::::\n", "@x\n", "# /\n=\n\\\n")
	f.Fuzz(func(t *testing.T, show, passwd, cron, units string) {
		for _, u := range ParseShow(show) {
			require.Contains(t, show, u.Place)
			argumentFiles(u.Executable)
		}
		accounts, _ := parsePasswd(passwd, "m")
		addGroups(accounts, cron)
		addStatus(accounts, units)
		for _, a := range accounts {
			require.NotEmpty(t, a.Name)
			require.True(t, strings.HasPrefix(a.StableID, "m:"))
		}
		parseCron("t", cron, "")
		parseCron("t", cron, "u")
		parseUnitTexts(units)
		unitNames(units)
	})
}

// What is asked of every name says the same as the expressions.
func TestNamesAreToldAsTheExpressionsTellThem(t *testing.T) {
	endings := strings.Split("png JPG jpeg jpg xlsx xls doc gz 7z so so.1 so.1.2 a o mo woff2 woff mp3 mp4 sqlite sqlite3 db log log.1 Log.22 conf env txt py key pem p12 keytab cnf 1 2 so.x tar.gz mp5 sqlite4 webp", " ")
	for _, stem := range []string{"x", "passwords", "my.secret", "id_rsa", "a.b", "", "TOKEN", "pw", ".my"} {
		for _, ending := range endings {
			for _, folder := range []string{"/etc/app/", "/home/tide/.ssh/", "/etc/authorized_keys/"} {
				p := folder + stem + "." + ending
				base := path.Base(p)
				assert.Equal(t, binary.MatchString(base), isBinary(base), base)
				if named.MatchString(base) || keyFile.MatchString(p) {
					assert.True(t, telling(p), p)
				}
			}
		}
	}
}
