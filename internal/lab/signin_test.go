package lab_test

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// A real sshd with each way of asking for a password, and with none. One that does
// not ask proves nothing of a password, right or wrong; one that asks in words of its
// own (keyboard-interactive, RFC 4256) is answered; and each try is one try, for tries
// are counted where accounts are locked.
func TestProofByRealSSH(t *testing.T) {
	h := lab.NewHost(t, "signin", 17)
	h.Shell(t, "useradd -r -m -s /bin/sh svc-berth && echo 'svc-berth:"+lab.AccountPassword+"' | chpasswd")
	h.Boot(t)
	right, wrong := secret.New(lab.AccountPassword), secret.New("Wrong-Passw0rd.9")
	account := connect.AccountRef{Name: "svc-berth"}
	for _, v := range []struct {
		name, password, asked string
		proves                bool
	}{
		{"password", "yes", "no", true},
		{"keyboard-interactive", "no", "yes", true},
		{"both", "yes", "yes", true},
		{"keys only", "no", "no", false},
	} {
		t.Run(v.name, func(t *testing.T) {
			h.Shell(t, "sed -i 's/^PasswordAuthentication .*/PasswordAuthentication "+v.password+"/; s/^KbdInteractiveAuthentication .*/KbdInteractiveAuthentication "+v.asked+"/' /etc/ssh/sshd_config.d/10-lab.conf && systemctl restart ssh")
			verdict, err := unixhost.Connector{}.Verify(t.Context(), h.Target(), account, right)
			if !v.proves {
				require.Error(t, err, "%+v", verdict)
				assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), err)
				assert.ErrorContains(t, err, "publickey")
				_, err = unixhost.Connector{}.Verify(t.Context(), h.Target(), account, wrong)
				assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), err)
				return
			}
			require.NoError(t, err)
			assert.True(t, verdict.Accepted)
			before := h.Shell(t, "journalctl -q -o cat | grep -c 'authentication failure' || true")
			verdict, err = unixhost.Connector{}.Verify(t.Context(), h.Target(), account, wrong)
			require.NoError(t, err)
			assert.Equal(t, connect.VerdictWrong, verdict.Code)
			after := h.Shell(t, "journalctl -q -o cat | grep -c 'authentication failure' || true")
			assert.Equal(t, number(t, before)+1, number(t, after), "one try")
		})
	}
}

func number(t *testing.T, text string) int {
	t.Helper()
	n, err := strconv.Atoi(strings.TrimSpace(text))
	require.NoError(t, err)
	return n
}
