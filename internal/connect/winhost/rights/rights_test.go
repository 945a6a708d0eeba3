package rights

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/privilege"
)

func TestPropose(t *testing.T) {
	p, why := Propose("north1", privilege.RightChange{Give: true, To: `LARKMOOR\svc-o'dile`, Group: "Remote Management Users"})
	require.Empty(t, why)
	assert.Equal(t, "Add-LocalGroupMember -Group 'Remote Management Users' -Member 'LARKMOOR\\svc-o''dile'\n", p.Text)
	assert.Equal(t, "Remove-LocalGroupMember -Group 'Remote Management Users' -Member 'LARKMOOR\\svc-o''dile'\n", p.Back)
	assert.NotEmpty(t, p.ByHand)
	p, _ = Propose("north1", privilege.RightChange{To: "a", Group: "b"})
	assert.Contains(t, p.Text, "Remove-")
	_, why = Propose("north1", privilege.RightChange{To: "a\nb", Group: "b"})
	assert.NotEmpty(t, why)
	_, why = Propose("north1", privilege.RightChange{To: "a", Verb: privilege.VerbEverything})
	assert.NotEmpty(t, why)
}

func TestProposeOnServicesAndUserRights(t *testing.T) {
	on := privilege.Object{Kind: "service", Name: "Berth'Store"}
	p, why := Propose("north1", privilege.RightChange{Give: true, To: `LARKMOOR\svc-berth`, Verb: VerbStart, Object: on})
	require.Empty(t, why)
	assert.Contains(t, p.Text, `sc.exe sdset 'Berth''Store' $sd.Replace("D:", "D:(A;;RP;;;$sid)")`)
	assert.Contains(t, p.Back, `$sd.Replace("(A;;RP;;;$sid)", "")`)
	p, why = Propose("north1", privilege.RightChange{To: `LARKMOOR\svc-berth`, Verb: VerbStart, Object: on, Text: "(A;;RPWP;;;S-1-5-21-1-2-3-4)"})
	require.Empty(t, why)
	assert.Contains(t, p.Text, `$sd.Replace("(A;;RPWP;;;S-1-5-21-1-2-3-4)", "")`, "what is taken is the entry as it stands")
	for _, text := range []string{"", "(D;;RP;;;S-1-1-0)", `(A;;RP;;;$(calc)")`} {
		_, why = Propose("north1", privilege.RightChange{To: "a", Verb: VerbStart, Object: on, Text: text})
		assert.NotEmpty(t, why, text)
	}
	p, why = Propose("north1", privilege.RightChange{Give: true, To: `LARKMOOR\svc-berth`, Verb: privilege.VerbSignIn, What: privilege.AsService})
	require.Empty(t, why)
	assert.Equal(t, "add LARKMOOR\\svc-berth to SeServiceLogonRight\n", p.Text)
	assert.Equal(t, "remove LARKMOOR\\svc-berth from SeServiceLogonRight\n", p.Back)
	assert.Contains(t, p.Where, "policy")
}

// asked is a host that answers from tables.
type asked struct {
	classes map[string][]string // instances by class, as XML
	fails   map[string]error
	binary  string // what GetBinaryValue answers, as XML
}

func (a asked) host(t *testing.T) Host {
	read := func(text string) *wsman.Instance {
		out := &wsman.Instance{}
		d := xml.NewDecoder(strings.NewReader(text))
		for {
			token, err := d.Token()
			if err != nil {
				require.ErrorIs(t, err, io.EOF)
				return out
			}
			if start, is := token.(xml.StartElement); is {
				var content string
				require.NoError(t, d.DecodeElement(&content, &start))
				out.Children = append(out.Children, &wsman.Node{Local: start.Name.Local, Content: content})
			}
		}
	}
	return Host{
		Name: "NORTH1",
		Enumerate: func(_, class, _ string, each func(*wsman.Instance) error) error {
			for _, text := range a.classes[class] {
				if err := each(read(text)); err != nil {
					return err
				}
			}
			return a.fails[class]
		},
		Registry: func(string, string, ...wsman.Pair) (*wsman.Instance, error) {
			return read(a.binary), a.fails["registry"]
		},
		Get: func(r wsman.Resource) (*wsman.Instance, error) {
			if r.Selector("Domain") == "LARKMOOR" && r.Selector("Name") == "svc-known" {
				return read("<Name>svc-known</Name>"), nil
			}
			return nil, &wsman.Fault{Number: wsman.NumberNotFound}
		},
	}
}

// What a host does not answer is a failure, and what it answers oddly is told.
func TestReadThatFails(t *testing.T) {
	fails := &connect.Failure{System: "north1", Words: "the connection broke"}
	target := connect.Target{Name: "north1"}
	read := func(a asked) (out connect.Batch, coverage connect.RightsCoverage, err error) {
		coverage, err = Read(target, a.host(t), connect.RightsRequest{Whole: true}, func(b connect.Batch) error { out = b; return nil })
		return out, coverage, err
	}
	services := map[string][]string{"Win32_Service": {"<Name>BerthStore</Name>"}}
	for _, class := range []string{"Win32_UserAccount", "Win32_Group", "Win32_Service", "RSOP_UserPrivilegeRight"} {
		_, _, err := read(asked{fails: map[string]error{class: fails}})
		require.ErrorIs(t, err, fails, class)
	}
	_, _, err := read(asked{classes: services, fails: map[string]error{"registry": fails}})
	require.ErrorIs(t, err, fails)

	refuses := &connect.Failure{System: "north1", Words: "invalid name space", Err: &wsman.Fault{Reason: "invalid name space"}}
	out, coverage, err := read(asked{fails: map[string]error{"RSOP_UserPrivilegeRight": refuses}})
	require.NoError(t, err)
	assert.False(t, coverage.Complete)
	require.Len(t, out.Problems, 2)
	assert.Contains(t, out.Problems[0].What, "invalid name space")
	assert.Contains(t, out.Problems[1].What, "user rights", "it never is complete")

	none := &connect.Failure{System: "north1", Words: "no such name space", Err: &wsman.Fault{Number: wsman.NumberNoNamespace}}
	_, coverage, err = read(asked{fails: map[string]error{"RSOP_UserPrivilegeRight": none}})
	require.NoError(t, err)
	assert.True(t, coverage.Whole, "a host that no policy reaches has shown all that it shows")

	for binary, words := range map[string]string{
		"<ReturnValue>5</ReturnValue>":                     "administrators may",
		"<ReturnValue>13</ReturnValue>":                    "returned 13",
		"<uValue>256</uValue><ReturnValue>0</ReturnValue>": `gave "256"`,
		"<uValue>1</uValue><ReturnValue>0</ReturnValue>":   "ends too early",
		"<uValue>x</uValue><ReturnValue>0</ReturnValue>":   `gave "x"`,
	} {
		out, _, err := read(asked{classes: services, binary: binary})
		require.NoError(t, err)
		assert.Contains(t, out.Problems[0].What, words, binary)
		assert.Contains(t, out.Problems[0].What, "BerthStore")
	}
}

// Services are asked about over several connections, each once; where a connection breaks the
// rest is not waited for.
func TestServicesAtOnce(t *testing.T) {
	a := asked{classes: map[string][]string{"Win32_Group": {"<SID>S-1-5-32-544</SID><Name>Administrators</Name>"}}}
	for i := range 60 {
		a.classes["Win32_Service"] = append(a.classes["Win32_Service"], fmt.Sprintf("<Name>Service%02d</Name>", i))
	}
	var lock sync.Mutex
	seen := map[string]int{}
	calls, opened, ended := 0, 0, 0
	breaksAt := 1000
	registry := func(_, key string, _ ...wsman.Pair) (*wsman.Instance, error) {
		lock.Lock()
		defer lock.Unlock()
		seen[key]++
		if calls++; calls >= breaksAt {
			return nil, &connect.Failure{Words: "the connection broke"}
		}
		return &wsman.Instance{Children: []*wsman.Node{{Local: "ReturnValue", Content: "2"}}}, nil
	}
	host := a.host(t)
	host.Registry = registry
	host.Another = func() (Registry, func(), error) {
		if opened++; opened == 3 {
			return nil, nil, errors.New("no more connections")
		}
		return registry, func() { lock.Lock(); ended++; lock.Unlock() }, nil
	}
	var batch connect.Batch
	_, err := Read(connect.Target{Name: "north1"}, host, connect.RightsRequest{Whole: true}, func(b connect.Batch) error { batch = b; return nil })
	require.NoError(t, err)
	assert.Len(t, seen, 60)
	assert.Equal(t, 60, calls, "each once")
	assert.Equal(t, 2, ended, "what was opened is ended")
	for _, l := range batch.Rights.Lists {
		if strings.HasPrefix(l.Key, servicesPrefix) {
			require.Len(t, l.Objects, 60)
			assert.Equal(t, "Service07", l.Objects[7].Name, "in their order")
		}
	}
	calls, breaksAt = 0, 10
	_, err = Read(connect.Target{Name: "north1"}, host, connect.RightsRequest{Whole: true}, func(connect.Batch) error { return nil })
	require.ErrorContains(t, err, "the connection broke")
	assert.Less(t, calls, 20, "the rest is not asked")
	calls = 0
	coverage, err := Read(connect.Target{Name: "north1"}, host, connect.RightsRequest{}, func(b connect.Batch) error { batch = b; return nil })
	require.NoError(t, err)
	assert.Zero(t, calls)
	assert.Equal(t, []string{servicesPrefix}, coverage.Kept)
	assert.True(t, coverage.Whole)
}

// What lies in who has a right by a policy cannot always be seen: then it is not said that
// nobody else has it.
func TestPolicies(t *testing.T) {
	for text, want := range map[string]struct{ berth, other string }{
		"<AccountList>LARKMOOR\\svc-berth</AccountList>":                                                     {"yes", "perhaps"}, // of a domain: it may be a group
		"<AccountList>svc-berth</AccountList>":                                                               {"yes", "no"},
		"<AccountList>*S-1-5-21-1-1-1-1001</AccountList><AccountList>NT SERVICE\\ALL SERVICES</AccountList>": {"yes", "no"},
		"<AccountList>*S-1-5-80-0</AccountList>":                                                             {"no", "no"},
		"<AccountList>Shift</AccountList>":                                                                   {"no", "no"},
		"":                                                                                                   {"no", "no"},
	} {
		a := asked{classes: map[string][]string{
			"Win32_UserAccount":       {"<SID>S-1-5-21-1-1-1-1001</SID><Name>svc-berth</Name>", "<SID>S-1-5-21-1-1-1-1002</SID><Name>svc-other</Name>"},
			"Win32_Group":             {"<SID>S-1-5-21-1-1-1-2001</SID><Name>Shift</Name>"},
			"RSOP_UserPrivilegeRight": {"<UserRight>SeServiceLogonRight</UserRight><precedence>1</precedence>" + text, "<UserRight>SeServiceLogonRight</UserRight><precedence>2</precedence><AccountList>svc-other</AccountList>", "<UserRight>SeFutureRight</UserRight>"},
		}}
		var batch connect.Batch
		_, err := Read(connect.Target{Name: "north1"}, a.host(t), connect.RightsRequest{Whole: true}, func(b connect.Batch) error { batch = b; return nil })
		require.NoError(t, err)
		m := privilege.NewModel(privilege.NewGraph(batch.Rights.Principals, batch.Rights.Memberships), batch.Rights.Lists, nil)
		say := func(id string) string {
			d := m.Decide(id, privilege.Question{Verb: privilege.VerbSignIn, What: privilege.AsService})
			switch {
			case d.Allowed:
				return "yes"
			case d.Unsure != "":
				return "perhaps"
			}
			assert.True(t, d.Alone, "what a policy says is certain, though not everything was read")
			return "no"
		}
		if strings.HasPrefix(text, "<AccountList>LARKMOOR\\svc-berth") {
			assert.Equal(t, want.berth, say(`name:larkmoor\svc-berth`), text)
		} else {
			assert.Equal(t, want.berth, say("S-1-5-21-1-1-1-1001"), text)
		}
		assert.Equal(t, want.other, say("S-1-5-21-1-1-1-1002"), text)
	}
}

// Whatever a host says of policies and services, reading it ends, and each entry is given to
// somebody who is told.
func FuzzRead(f *testing.F) {
	f.Add("<UserRight>SeServiceLogonRight</UserRight><AccountList>*S-1-5-32-544</AccountList>", "1 0 4 128 20 0 0 0", "svc")
	f.Add("<UserRight>sedebugprivilege</UserRight><AccountList>A\\B</AccountList><precedence>x</precedence>", "", `.\svc`)
	f.Add("", "256", "@")
	f.Fuzz(func(t *testing.T, policy, binary, runs string) {
		if strings.ContainsAny(policy+binary+runs, "<>&") {
			policy, binary, runs = "", "", "" // the client has read the XML before
		}
		instance := func(values map[string][]string) *wsman.Instance {
			out := &wsman.Instance{}
			for name, list := range values {
				for _, v := range list {
					out.Children = append(out.Children, &wsman.Node{Local: name, Content: v})
				}
			}
			return out
		}
		host := Host{
			Name: "NORTH1",
			Enumerate: func(_, class, _ string, each func(*wsman.Instance) error) error {
				return each(map[string]*wsman.Instance{
					"Win32_UserAccount":       instance(map[string][]string{"SID": {"S-1-5-21-1-1-1-1001"}, "Name": {runs}}),
					"Win32_Group":             instance(map[string][]string{"SID": {"S-1-5-32-544"}, "Name": {"Administrators"}}),
					"Win32_Service":           instance(map[string][]string{"Name": {runs}, "StartName": {runs}, "State": {"Running"}}),
					"RSOP_UserPrivilegeRight": instance(map[string][]string{"UserRight": {"SeServiceLogonRight"}, "AccountList": strings.Fields(policy), "precedence": {"1"}}),
					"Win32_GroupUser":         instance(nil),
				}[class])
			},
			Registry: func(string, string, ...wsman.Pair) (*wsman.Instance, error) {
				return instance(map[string][]string{"ReturnValue": {"0"}, "uValue": strings.Fields(binary)}), nil
			},
			Get: func(wsman.Resource) (*wsman.Instance, error) { return nil, &wsman.Fault{Number: wsman.NumberNotFound} },
		}
		_, err := Read(connect.Target{Name: "north1"}, host, connect.RightsRequest{Whole: true}, func(b connect.Batch) error {
			there := map[string]bool{}
			for _, p := range b.Rights.Principals {
				require.False(t, there[p.ID], "one principal twice: %s", p.ID)
				there[p.ID] = true
			}
			for _, l := range b.Rights.Lists {
				for _, e := range l.Entries {
					require.True(t, there[e.To], "%s: %+v", l.Key, e)
					require.NotEmpty(t, e.Verb)
					require.NotEmpty(t, e.Text)
				}
			}
			return nil
		})
		require.NoError(t, err)
	})
}
