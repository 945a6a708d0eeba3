package shell

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/secret"
)

const berth = "Berth-Passw0rd-1"

// asking is a host that asks as it likes. got is all that it was told.
type asking struct {
	password  bool
	questions []string // of keyboard-interactive, one round; nil for none
	shown     bool
	rounds    int
	got       []string
	tries     atomic.Int64
}

func (a *asking) config(t *testing.T) *ssh.ServerConfig {
	t.Helper()
	config := &ssh.ServerConfig{MaxAuthTries: 6}
	refuse := errors.New("no")
	if a.password {
		config.PasswordCallback = func(_ ssh.ConnMetadata, given []byte) (*ssh.Permissions, error) {
			a.tries.Add(1)
			a.got = append(a.got, string(given))
			if string(given) == berth {
				return nil, nil
			}
			return nil, refuse
		}
	}
	if a.questions != nil {
		config.KeyboardInteractiveCallback = func(_ ssh.ConnMetadata, client ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			var last []string
			for range max(1, a.rounds) {
				shown := make([]bool, len(a.questions))
				for i := range shown {
					shown[i] = a.shown
				}
				answers, err := client("", "", a.questions, shown)
				if err != nil {
					return nil, err
				}
				a.got = append(a.got, answers...)
				last = answers
			}
			a.tries.Add(1)
			if len(last) == 1 && last[0] == berth {
				return nil, nil
			}
			return nil, refuse
		}
	}
	if !a.password && a.questions == nil {
		config.PublicKeyCallback = func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, refuse }
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	config.AddHostKey(signer)
	return config
}

// signIn tries a password at a host that asks so.
func signIn(t *testing.T, a *asking, value string) (*PasswordProof, *connect.Failure) {
	t.Helper()
	config := a.config(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		raw, err := listener.Accept()
		if err != nil {
			return
		}
		defer raw.Close()
		if conn, _, requests, err := ssh.NewServerConn(raw, config); err == nil {
			go ssh.DiscardRequests(requests)
			_ = conn.Wait()
		}
	}()
	t.Cleanup(func() { _ = listener.Close(); <-ended })
	address := listener.Addr().(*net.TCPAddr)
	target := connect.Target{Name: "host", Address: "127.0.0.1", Port: address.Port}
	raw, err := net.Dial("tcp", address.String())
	require.NoError(t, err)
	proof := Password(secret.New(value))
	client, _, _, err := ssh.NewClientConn(raw, address.String(), &ssh.ClientConfig{User: "svc-berth", Auth: proof.Methods(), HostKeyCallback: ssh.InsecureIgnoreHostKey()}) // the way in is not the question here
	if err != nil {
		_ = raw.Close()
		return proof, handshakeFailure(target, "svc-berth", err, true)
	}
	_ = client.Close()
	return proof, nil
}

// However a host asks, the password is given at most once, only where it is asked for
// alone and hidden, and what the host said is told from not having been asked.
func TestPasswordsAreGivenOnceAndOnlyWhenAsked(t *testing.T) {
	for name, v := range map[string]struct {
		host          *asking
		value         string
		in, asked     bool
		given, tries  int
		code          string
		neverToldThis string
	}{
		"plainly":                       {host: &asking{password: true}, value: berth, in: true, asked: true, given: 1, tries: 1},
		"plainly, wrong":                {host: &asking{password: true}, value: "x", asked: true, given: 1, tries: 1, code: connect.CodeStewardRefused},
		"in words":                      {host: &asking{questions: []string{"Passwort: "}}, value: berth, in: true, asked: true, given: 1, tries: 1},
		"in words, wrong":               {host: &asking{questions: []string{"Password: "}}, value: "x", asked: true, given: 1, tries: 1, code: connect.CodeStewardRefused},
		"both, wrong":                   {host: &asking{password: true, questions: []string{"Password: "}}, value: "x", asked: true, given: 1, tries: 1, code: connect.CodeStewardRefused},
		"for a password and a code":     {host: &asking{questions: []string{"Password: ", "Code: "}}, value: berth, neverToldThis: berth},
		"for something that is shown":   {host: &asking{questions: []string{"Where do you live? "}, shown: true}, value: berth, neverToldThis: berth},
		"twice in one go":               {host: &asking{questions: []string{"Password: "}, rounds: 2}, value: berth, asked: true, given: 1},
		"for nothing, and then refuses": {host: &asking{questions: []string{}}, value: berth, tries: 1, neverToldThis: berth},
		"not at all":                    {host: &asking{}, value: berth, neverToldThis: berth, code: connect.CodeStewardRefused},
	} {
		t.Run(name, func(t *testing.T) {
			proof, failure := signIn(t, v.host, v.value)
			assert.Equal(t, v.in, failure == nil, "%+v", failure)
			assert.Equal(t, v.asked, proof.Asked())
			if v.code != "" {
				assert.Equal(t, v.code, failure.Code, failure.Words)
			}
			given := 0
			for _, told := range v.host.got {
				if told == v.value {
					given++
				}
				if v.neverToldThis != "" {
					assert.NotContains(t, told, v.neverToldThis)
				}
			}
			assert.Equal(t, v.given, given, "times that the password was given")
			if v.tries > 0 {
				assert.Equal(t, int64(v.tries), v.host.tries.Load(), "tries that the host counts")
			}
			if failure != nil {
				assert.NotContains(t, strings.ToLower(fmt.Sprint(failure, failure.Words, failure.Next)), strings.ToLower(berth))
			}
		})
	}
}

// Kinds of files by their modes, as hosts of every language write them.
func TestKindOf(t *testing.T) {
	for mode, want := range map[string]string{
		"81a4": RegularFile, "8000": RegularFile, "81ed": RegularFile, "8fff": RegularFile,
		"41ed": "directory", "43ff": "directory", "a1ff": "symbolic link", "1180": "pipe", "c1ed": "socket", "61b0": "device", "21b6": "device",
		"": "file of an unknown kind", "regular file": "file of an unknown kind", "0": "file of an unknown kind", "f1a4": "file of an unknown kind", "-81a4": "file of an unknown kind", "1000081a4": "file of an unknown kind",
	} {
		assert.Equal(t, want, KindOf(mode), mode)
	}
}
