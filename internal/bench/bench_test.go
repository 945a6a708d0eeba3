// Package bench holds speed as ratios measured in one run: a survey beside the
// plainest tool that reads the same things from the same real systems.
package bench

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	_ "mossledger.example/moss/internal/connect/directory"
	_ "mossledger.example/moss/internal/connect/unixhost"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

func newOperator(b *testing.B) *assembly.Application {
	assembly.TuneMemory() // as the service does
	ctx := context.Background()
	s, err := store.Open(ctx, b.TempDir(), time.Now)
	require.NoError(b, err)
	master := make([]byte, secret.KeySize)
	_, err = rand.Read(master)
	require.NoError(b, err)
	o, err := assembly.New(ctx, assembly.Config{Store: s, Master: master, Random: rand.Reader, Now: time.Now, Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	require.NoError(b, err)
	b.Cleanup(func() {
		o.Stop()
		require.NoError(b, s.Close())
	})
	return o
}

// bench is who acts.
var bench = access.Actor{Name: "bench", Roles: access.Roles()}

// survey runs one and returns how long it took.
func survey(b *testing.B, o *assembly.Application, accounts int) time.Duration {
	ctx := context.Background()
	began := time.Now()
	id, err := o.Surveys.Start(ctx, bench, nil)
	require.NoError(b, err)
	wake, letGo := o.Base.Topics.Listen(app.SurveyTopic(id))
	defer letGo()
	for {
		v, err := o.Store.Survey(ctx, id)
		require.NoError(b, err)
		if v.State != "running" {
			took := time.Since(began)
			visits, err := o.Store.VisitsAfter(ctx, id, 0)
			require.NoError(b, err)
			for _, visit := range visits {
				require.Equal(b, "done", visit.State, "%s: %s %v", visit.System, visit.Words, visit.Problems)
			}
			overview, err := o.Store.Overview(ctx)
			require.NoError(b, err)
			require.GreaterOrEqual(b, overview.Accounts, accounts)
			return took
		}
		select {
		case <-wake:
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func add(b *testing.B, o *assembly.Application, logon, account string, password, key secret.Value, v records.System, fingerprint string) {
	ctx := context.Background()
	require.NoError(b, o.Inventory.SaveSteward(ctx, bench, logon, account, password, key))
	v.Steward = logon
	_, err := o.Inventory.Add(ctx, bench, v)
	require.NoError(b, err)
	if fingerprint != "" {
		_, report, err := o.Inventory.Check(ctx, bench, v.Name, fingerprint)
		require.NoError(b, err)
		require.True(b, report.OK(), "%+v", report)
	}
}

// BenchmarkDirectory surveys an OpenLDAP directory of 100,000 entries, first
// and again unchanged, beside ldapsearch reading the same attributes.
func BenchmarkDirectory(b *testing.B) {
	d := lab.OpenLDAP(b, "127.0.0.63", 636, 0, entries)
	ca := filepath.Join(b.TempDir(), "ca.pem")
	require.NoError(b, os.WriteFile(ca, []byte(d.CA), 0o600))
	pw := filepath.Join(b.TempDir(), "pw")
	require.NoError(b, os.WriteFile(pw, []byte(lab.ManagerPassword), 0o600))
	search := func() time.Duration {
		began := time.Now()
		args := []string{
			"-x", "-LLL", "-H", "ldaps://127.0.0.63", "-D", d.Manager, "-y", pw, "-b", d.Base, "-E", "pr=1000/noprompt",
			"(|(objectClass=inetOrgPerson)(objectClass=posixAccount)(objectClass=account)(objectClass=simpleSecurityObject)(objectClass=organizationalRole))",
		}
		args = append(args, strings.Fields("objectClass entryUUID uid cn displayName description manager uidNumber homeDirectory loginShell pwdChangedTime pwdAccountLockedTime pwdReset pwdEndTime pwdLastSuccess krbPrincipalName")...)
		cmd := exec.Command("ldapsearch", args...)
		cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+ca)
		var errs bytes.Buffer
		cmd.Stdout, cmd.Stderr = io.Discard, &errs
		require.NoError(b, cmd.Run(), errs.String())
		return time.Since(began)
	}
	search() // warm the directory's own cache for both
	for range b.N {
		var firsts, unchanged []float64
		for range rounds {
			o := newOperator(b)
			add(b, o, "dir", d.Manager, secret.New(lab.ManagerPassword), secret.Value{}, records.System{Name: "openldap", Kind: "directory", Address: d.Address, Port: d.Port, TrustedCA: d.CA}, "")
			before := search()
			first := survey(b, o, entries)
			between := search()
			second := survey(b, o, entries)
			after := search()
			firsts = append(firsts, float64(first)/float64((before+between)/2))
			unchanged = append(unchanged, float64(second)/float64((between+after)/2))
			fmt.Printf("directory of %d entries: ldapsearch %v, %v, %v; first survey %v, unchanged %v\n", entries,
				before.Round(time.Millisecond), between.Round(time.Millisecond), after.Round(time.Millisecond), first.Round(time.Millisecond), second.Round(time.Millisecond))
		}
		fmt.Printf("median of %d: first survey %.2f times ldapsearch, unchanged survey %.2f times\n", rounds, median(firsts), median(unchanged))
		b.ReportMetric(median(firsts), "first/ldapsearch")
		b.ReportMetric(median(unchanged), "unchanged/ldapsearch")
	}
}

func median(list []float64) float64 {
	sort.Float64s(list)
	return list[len(list)/2]
}

// reads are the commands that a visit runs, for one remote shell. chage and
// single cron files are left out of the baseline, which only helps it.
const reads = `cat /etc/machine-id /etc/os-release; id -u; sudo -n -l; getent passwd; getent group; sudo -n passwd -S -a
systemctl list-unit-files --type=service --no-legend --no-pager --plain; systemctl list-units --type=service --all --no-legend --no-pager --plain
u=$(systemctl list-unit-files --type=service --no-legend --no-pager --plain | awk '{print $1}' | grep -v '@\.service')
systemctl show --no-pager --property=Id,Description,User,Environment,EnvironmentFiles,ExecStart,ActiveState,SubState,UnitFileState,LoadState,LoadError,After,Requires,FragmentPath,DynamicUser -- $u
systemctl cat --no-pager -- $u
cat /etc/crontab; ls -1 /etc/cron.d; cat /etc/cron.d/*; sudo -n ls -1 /var/spool/cron/crontabs`

// BenchmarkHosts surveys four real hosts beside a shell loop over ssh that
// runs the same reads, all of a host's in one connection.
func BenchmarkHosts(b *testing.B) {
	hosts := map[string]*lab.Host{}
	var boot sync.WaitGroup
	for i := range 4 {
		name := fmt.Sprintf("bench%d", i+1)
		h := lab.NewHost(b, name, 40+i)
		hosts[name] = h
		boot.Add(1)
		go func() { defer boot.Done(); h.Boot(b) }()
	}
	boot.Wait()
	folder := b.TempDir()
	loop := "set -e\n"
	for name, h := range hosts {
		key := filepath.Join(folder, name)
		require.NoError(b, os.WriteFile(key, h.Key.Reveal(), 0o600))
		known := filepath.Join(folder, "known_hosts")
		public, err := os.ReadFile(h.Root + "/etc/ssh/ssh_host_ed25519_key.pub")
		require.NoError(b, err)
		f, err := os.OpenFile(known, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		require.NoError(b, err)
		_, err = fmt.Fprintf(f, "%s %s", h.Address, public)
		require.NoError(b, err)
		require.NoError(b, f.Close())
		loop += fmt.Sprintf("ssh -q -i %s -o UserKnownHostsFile=%s -o BatchMode=yes mossmgr@%s '/bin/sh -s' < %s > /dev/null\n", key, known, h.Address, filepath.Join(folder, "reads"))
	}
	require.NoError(b, os.WriteFile(filepath.Join(folder, "reads"), []byte(reads), 0o600))
	ssh := func() time.Duration {
		began := time.Now()
		out, err := exec.Command("/bin/bash", "-c", loop).CombinedOutput()
		require.NoError(b, err, string(out))
		return time.Since(began)
	}
	o := newOperator(b)
	for name, h := range hosts {
		add(b, o, name, "mossmgr", secret.Value{}, h.Key, records.System{Name: name, Kind: "unix-host", Address: h.Address, Port: 22}, h.Fingerprint())
	}
	ssh()
	for range b.N {
		var ratios []float64
		for range rounds {
			loop, took := ssh(), survey(b, o, 20)
			ratios = append(ratios, float64(loop)/float64(took))
			fmt.Printf("four hosts: shell loop over ssh %v, survey %v\n", loop.Round(time.Millisecond), took.Round(time.Millisecond))
		}
		fmt.Printf("median of %d: the survey is %.2f times as fast\n", rounds, median(ratios))
		b.ReportMetric(median(ratios), "times-as-fast")
	}
}

// cred is the password of an account as a credential.
func cred(o *assembly.Application, a records.Account) records.Credential {
	c, err := o.Store.NotePassword(context.Background(), a.ID)
	if err != nil {
		panic(err)
	}
	return c
}
