package ticket

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/jcmturner/gofork/encoding/asn1"
	"github.com/jcmturner/gokrb5/v8/crypto"
	"github.com/jcmturner/gokrb5/v8/iana/errorcode"
	"github.com/jcmturner/gokrb5/v8/iana/etypeID"
	"github.com/jcmturner/gokrb5/v8/iana/keyusage"
	"github.com/jcmturner/gokrb5/v8/iana/msgtype"
	"github.com/jcmturner/gokrb5/v8/iana/patype"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

const (
	realm = "LARKMOOR.EXAMPLE"
	right = "Berth-7-Quay"
	salt  = "LARKMOOR.EXAMPLEsvc-berth"
)

// center is one that a test makes up: what it offers, and what it knows.
type center struct {
	offers types.ETypeInfo2
	knows  string                                                 // the value that its keys are made of
	proof  bool                                                   // it asks for a proof first
	change func(*messages.ASRep, *messages.EncKDCRepPart)         // before it answers
	raw    func(request messages.ASReq) (answer []byte, all bool) // in place of an answer

	lock   sync.Mutex
	proofs []types.PAData // that it was shown
}

func start(t *testing.T, c *center) string {
	t.Helper()
	if c.offers == nil {
		c.offers = types.ETypeInfo2{{EType: etypeID.AES256_CTS_HMAC_SHA1_96, Salt: salt, S2KParams: []byte{0, 0, 0x10, 0}}}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var serving sync.WaitGroup
	t.Cleanup(func() { _ = listener.Close(); serving.Wait() })
	serving.Go(func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			serving.Go(func() {
				defer conn.Close()
				_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
				c.serve(t, conn)
			})
		}
	})
	return listener.Addr().String()
}

func (c *center) serve(t *testing.T, conn net.Conn) {
	var size [4]byte
	if _, err := io.ReadFull(conn, size[:]); err != nil {
		return
	}
	raw := make([]byte, binary.BigEndian.Uint32(size[:]))
	if _, err := io.ReadFull(conn, raw); err != nil {
		return
	}
	var request messages.ASReq
	if !assert.NoError(t, request.Unmarshal(raw)) {
		return
	}
	answer, all := []byte(nil), false
	if c.raw != nil {
		answer, all = c.raw(request)
	}
	if answer == nil {
		answer = c.answer(t, request)
	}
	if !all {
		answer = append(binary.BigEndian.AppendUint32(nil, uint32(len(answer))), answer...)
	}
	_, _ = conn.Write(answer)
}

func (c *center) answer(t *testing.T, request messages.ASReq) []byte {
	proven := false
	for _, pa := range request.PAData {
		if pa.PADataType == patype.PA_ENC_TIMESTAMP {
			c.lock.Lock()
			c.proofs = append(c.proofs, pa)
			c.lock.Unlock()
			proven = true
		}
	}
	offered, err := asn1.Marshal(c.offers)
	require.NoError(t, err)
	methods := types.PADataSequence{{PADataType: patype.PA_ETYPE_INFO2, PADataValue: offered}}
	if c.proof && !proven {
		said := messages.NewKRBError(request.ReqBody.SName, realm, errorcode.KDC_ERR_PREAUTH_REQUIRED, "")
		said.EData, err = asn1.Marshal(methods)
		require.NoError(t, err)
		raw, err := said.Marshal()
		require.NoError(t, err)
		return raw
	}
	kind := c.offers[0]
	way, err := crypto.GetEtype(kind.EType)
	require.NoError(t, err)
	rounds := way.GetDefaultStringToKeyParams()
	if len(kind.S2KParams) > 0 {
		rounds = hex.EncodeToString(kind.S2KParams)
	}
	made, err := way.StringToKey(c.knows, kind.Salt, rounds)
	require.NoError(t, err)
	tab := keytab.New()
	require.NoError(t, tab.AddEntry("krbtgt/"+realm, realm, "its own", time.Now(), 1, etypeID.AES256_CTS_HMAC_SHA1_96))
	now := time.Now().UTC()
	given, session, err := messages.NewTicket(request.ReqBody.CName, realm, request.ReqBody.SName, realm, types.NewKrbFlags(), tab, etypeID.AES256_CTS_HMAC_SHA1_96, 1, now, now, now.Add(time.Hour), now.Add(time.Hour))
	require.NoError(t, err)
	part := messages.EncKDCRepPart{Key: session, LastReqs: []messages.LastReq{{LRValue: now}}, Nonce: request.ReqBody.Nonce, Flags: types.NewKrbFlags(), AuthTime: now, StartTime: now, EndTime: now.Add(time.Hour), RenewTill: now.Add(time.Hour), SRealm: realm, SName: request.ReqBody.SName}
	reply := messages.ASRep{KDCRepFields: messages.KDCRepFields{PVNO: 5, MsgType: msgtype.KRB_AS_REP, PAData: methods, CRealm: realm, CName: request.ReqBody.CName, Ticket: given}}
	if c.change != nil {
		c.change(&reply, &part)
	}
	plain, err := part.Marshal()
	require.NoError(t, err)
	reply.EncPart, err = crypto.GetEncryptedData(plain, types.EncryptionKey{KeyType: kind.EType, KeyValue: made}, keyusage.AS_REP_ENCPART, 1)
	require.NoError(t, err)
	raw, err := reply.Marshal()
	require.NoError(t, err)
	return raw
}

func ask(t *testing.T, address string) error {
	return Ask(t.Context(), address, "larkmoor.example", "svc-berth", secret.New(right))
}

// A ticket proves the value where its answer was made with it, whether a proof is asked for
// first or not; a center that does not know the value proves nothing.
func TestOnlyWhoKnowsTheValueProvesIt(t *testing.T) {
	for _, proof := range []bool{true, false} {
		assert.NoError(t, ask(t, start(t, &center{knows: right, proof: proof})))
		assert.ErrorContains(t, ask(t, start(t, &center{knows: "something else", proof: proof})), "was not made with the value")
	}
	weaker := &center{knows: right, proof: true, offers: types.ETypeInfo2{{EType: etypeID.AES128_CTS_HMAC_SHA1_96}}}
	weaker.offers[0].Salt = salt
	assert.NoError(t, ask(t, start(t, weaker)), "the shorter key of AES will do")
}

// An answer that was made for another question, or for another account, proves nothing.
func TestAnswersToOtherQuestions(t *testing.T) {
	for name, change := range map[string]func(*messages.ASRep, *messages.EncKDCRepPart){
		"one of before": func(_ *messages.ASRep, part *messages.EncKDCRepPart) { part.Nonce++ },
		"of another account": func(reply *messages.ASRep, _ *messages.EncKDCRepPart) {
			reply.CName = types.NewPrincipalName(1, "svc-tide")
		},
		"of another realm": func(reply *messages.ASRep, _ *messages.EncKDCRepPart) { reply.CRealm = "PILOTS.EXAMPLE" },
		"for a service": func(_ *messages.ASRep, part *messages.EncKDCRepPart) {
			part.SName = types.NewPrincipalName(2, "HTTP/quay1")
		},
	} {
		assert.ErrorContains(t, ask(t, start(t, &center{knows: right, proof: true, change: change})), "to another question", name)
	}
}

// Whoever stands in the center's place would like to have the value used for a key that is
// quickly guessed, or for one that takes for ever: then nothing that was made with it is
// sent.
func TestTheValueIsNotUsedForWeakKeys(t *testing.T) {
	for name, offers := range map[string]types.ETypeInfo2{
		"a key without a salt":   {{EType: etypeID.RC4_HMAC}},
		"only older ones":        {{EType: etypeID.RC4_HMAC}, {EType: etypeID.DES3_CBC_SHA1_KD, Salt: salt}},
		"one round":              {{EType: etypeID.AES256_CTS_HMAC_SHA1_96, Salt: salt, S2KParams: []byte{0, 0, 0, 1}}},
		"rounds without end":     {{EType: etypeID.AES256_CTS_HMAC_SHA1_96, Salt: salt, S2KParams: []byte{0xff, 0xff, 0xff, 0xff}}},
		"rounds of another form": {{EType: etypeID.AES256_CTS_HMAC_SHA1_96, Salt: salt, S2KParams: []byte{0x10}}},
		"a salt of a kilobyte":   {{EType: etypeID.AES256_CTS_HMAC_SHA1_96, Salt: string(bytes.Repeat([]byte("s"), 1024))}},
		"nothing":                {},
	} {
		c := &center{knows: right, proof: true, offers: offers}
		began := time.Now()
		assert.Error(t, ask(t, start(t, c)), name)
		assert.Empty(t, c.proofs, "%s: nothing made with the value was sent", name)
		assert.Less(t, time.Since(began), 5*time.Second, name)
	}
	// A weaker one beside a strong one is passed over, in whatever order.
	c := &center{knows: right, proof: true, offers: types.ETypeInfo2{{EType: etypeID.RC4_HMAC}, {EType: etypeID.AES256_CTS_HMAC_SHA1_96, Salt: salt}}}
	address := start(t, c)
	_ = ask(t, address) // the made-up center answers with its first kind
	require.Len(t, c.proofs, 1)
	var shown types.EncryptedData
	require.NoError(t, shown.Unmarshal(c.proofs[0].PADataValue))
	assert.Equal(t, int32(etypeID.AES256_CTS_HMAC_SHA1_96), shown.EType)
}

// What is no answer proves nothing, and ends.
func TestAnswersThatAreNone(t *testing.T) {
	refusal := func(code int32) func(messages.ASReq) ([]byte, bool) {
		return func(request messages.ASReq) ([]byte, bool) {
			said := messages.NewKRBError(request.ReqBody.SName, realm, code, "")
			raw, _ := said.Marshal()
			return raw, false
		}
	}
	for name, c := range map[string]struct {
		raw   func(messages.ASReq) ([]byte, bool)
		words string
	}{
		"a refusal":             {refusal(errorcode.KDC_ERR_PREAUTH_FAILED), "KDC_ERR_PREAUTH_FAILED"},
		"another realm":         {refusal(errorcode.KDC_ERR_WRONG_REALM), "KDC_ERR_WRONG_REALM"},
		"asks and says not how": {refusal(errorcode.KDC_ERR_PREAUTH_REQUIRED), ""},
		"junk":                  {func(messages.ASReq) ([]byte, bool) { return []byte("HTTP/1.0 400 Bad Request"), false }, "makes no sense"},
		"nothing":               {func(messages.ASReq) ([]byte, bool) { return []byte{0, 0, 0, 0}, true }, "makes no sense"},
		"a length of gigabytes": {func(messages.ASReq) ([]byte, bool) { return []byte{0x7f, 0xff, 0xff, 0xff}, true }, "its answer has 2147483647 bytes"},
		"cut off":               {func(messages.ASReq) ([]byte, bool) { return []byte{0, 0, 1, 0, 0x6b}, true }, "broke off"},
	} {
		err := ask(t, start(t, &center{raw: c.raw}))
		if assert.Error(t, err, name) {
			assert.Contains(t, err.Error(), c.words, name)
			assert.NotContains(t, err.Error(), right)
		}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close() // it takes connections, and says nothing
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	assert.Error(t, Ask(ctx, listener.Addr().String(), "larkmoor.example", "svc-berth", secret.New(right)))
	for _, domain := range []string{"", "a}\n b", "a b"} {
		assert.Error(t, Ask(t.Context(), listener.Addr().String(), domain, "svc-berth", secret.New(right)))
	}
}

// Whatever is answered, asking ends without a panic and proves nothing.
func FuzzAnswers(f *testing.F) {
	f.Add([]byte{0x6b, 3, 0x30, 1, 0}, []byte{0x30, 0})
	f.Add([]byte{0x7e, 0}, []byte{})
	f.Fuzz(func(t *testing.T, answer, second []byte) {
		n := 0
		address := start(t, &center{raw: func(messages.ASReq) ([]byte, bool) {
			n++
			if n > 1 {
				return append(second, 0), false
			}
			return append(answer, 0), false
		}})
		require.Error(t, ask(t, address))
	})
}
