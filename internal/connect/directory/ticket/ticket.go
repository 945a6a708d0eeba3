// Package ticket asks key distribution centers for tickets (RFC 4120, section 3.1), to prove
// that a value is an account's.
//
// Who answers is not known before: whoever stands between could. So nothing is believed but
// an answer that is encrypted with a key made of the value; and the value is never used for
// a key of a kind that is quickly guessed, whatever the other side asks for: keys are of
// AES (RFC 3962), made with no fewer rounds than usual, and with no more than can be waited
// for. That is why the exchange is made here: the library that has the messages takes any
// kind that it is offered.
package ticket

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/crypto"
	"github.com/jcmturner/gokrb5/v8/iana/errorcode"
	"github.com/jcmturner/gokrb5/v8/iana/etypeID"
	"github.com/jcmturner/gokrb5/v8/iana/keyusage"
	"github.com/jcmturner/gokrb5/v8/iana/nametype"
	"github.com/jcmturner/gokrb5/v8/iana/patype"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/types"

	"mossledger.example/moss/internal/core/secret"
)

// Bounds of what the other side may ask for.
const (
	fewestRounds = 4096 // RFC 3962, section 4: the usual number
	mostRounds   = 1 << 20
	longestSalt  = 512
	longestReply = 64 << 10
	timeToAnswer = 5 * time.Second
)

var strong = map[int32]bool{etypeID.AES256_CTS_HMAC_SHA1_96: true, etypeID.AES128_CTS_HMAC_SHA1_96: true}

// Ask asks the center at an address (host:port) for a ticket of an account of a domain; nil
// when it gave one that was made with the value. Any error means that nothing is proven.
func Ask(ctx context.Context, center, domain, account string, value secret.Value) (err error) {
	defer func() { // the parsers of messages trust what they are given
		if r := recover(); r != nil {
			err = fmt.Errorf("its answer makes no sense: %v", r)
		}
	}()
	realm := strings.ToUpper(domain)
	if realm == "" || account == "" || strings.ContainsAny(realm, "{}=\n ") {
		return errors.New("it has no domain that a realm could be called after")
	}
	settings, err := config.NewFromString("[libdefaults]\n default_realm = " + realm + "\n default_tkt_enctypes = aes256-cts-hmac-sha1-96 aes128-cts-hmac-sha1-96\n")
	if err != nil {
		return err
	}
	request, err := messages.NewASReqForTGT(realm, settings, types.NewPrincipalName(nametype.KRB_NT_PRINCIPAL, account))
	if err != nil {
		return err
	}
	reply, said, err := exchange(ctx, center, &request)
	if err != nil {
		return err
	}
	var key types.EncryptionKey
	switch {
	case said == nil: // of an account that needs no proof to be given one
		key, err = keyFor(reply.PAData, &request, value)
	case said.ErrorCode == errorcode.KDC_ERR_PREAUTH_REQUIRED:
		var methods types.PADataSequence
		if err := methods.Unmarshal(said.EData); err != nil {
			return fmt.Errorf("it does not say how to prove the value: %w", err)
		}
		if key, err = keyFor(methods, &request, value); err != nil {
			return err
		}
		if err := prove(&request, key); err != nil {
			return err
		}
		reply, said, err = exchange(ctx, center, &request)
	}
	switch {
	case err != nil:
		return err
	case said != nil:
		return errors.New(said.Error())
	}
	return judge(reply, &request, key)
}

// keyFor makes the key of a value as the other side asks for it, if that is safe.
func keyFor(methods types.PADataSequence, request *messages.ASReq, value secret.Value) (types.EncryptionKey, error) {
	for _, method := range methods {
		if method.PADataType != patype.PA_ETYPE_INFO2 {
			continue
		}
		kinds, err := method.GetETypeInfo2()
		if err != nil {
			return types.EncryptionKey{}, fmt.Errorf("it does not say which keys it has: %w", err)
		}
		for _, kind := range kinds {
			if !strong[kind.EType] {
				continue
			}
			way, err := crypto.GetEtype(kind.EType)
			if err != nil {
				return types.EncryptionKey{}, err
			}
			rounds := way.GetDefaultStringToKeyParams()
			if len(kind.S2KParams) > 0 {
				if len(kind.S2KParams) != 4 || binary.BigEndian.Uint32(kind.S2KParams) < fewestRounds || binary.BigEndian.Uint32(kind.S2KParams) > mostRounds {
					return types.EncryptionKey{}, errors.New("it asks for a key that is made with too few rounds, or too many: the value is not used for it")
				}
				rounds = hex.EncodeToString(kind.S2KParams)
			}
			salt := kind.Salt
			if salt == "" {
				salt = request.ReqBody.CName.GetSalt(request.ReqBody.Realm)
			}
			if len(salt) > longestSalt {
				return types.EncryptionKey{}, errors.New("it asks for a salt of more than can be one")
			}
			made, err := way.StringToKey(value.RevealString(), salt, rounds)
			return types.EncryptionKey{KeyType: kind.EType, KeyValue: made}, err
		}
	}
	return types.EncryptionKey{}, errors.New("it has no key of AES for the account: the value is not used for a weaker one")
}

// prove adds a time that is encrypted with the key (RFC 4120, section 5.2.7.2).
func prove(request *messages.ASReq, key types.EncryptionKey) error {
	now, err := types.GetPAEncTSEncAsnMarshalled()
	if err != nil {
		return err
	}
	encrypted, err := crypto.GetEncryptedData(now, key, keyusage.AS_REQ_PA_ENC_TIMESTAMP, 0)
	if err != nil {
		return err
	}
	raw, err := encrypted.Marshal()
	request.PAData = append(request.PAData, types.PAData{PADataType: patype.PA_ENC_TIMESTAMP, PADataValue: raw})
	return err
}

// judge: the answer can be read with the key, and is to this very question (RFC 4120,
// section 3.1.5).
func judge(reply *messages.ASRep, request *messages.ASReq, key types.EncryptionKey) error {
	if reply.EncPart.EType != key.KeyType {
		return errors.New("its answer is encrypted with a key of another kind")
	}
	raw, err := crypto.DecryptEncPart(reply.EncPart, key, keyusage.AS_REP_ENCPART)
	if err != nil {
		return fmt.Errorf("its answer was not made with the value: %w", err)
	}
	var part messages.EncKDCRepPart
	if err := part.Unmarshal(raw); err != nil {
		return fmt.Errorf("its answer makes no sense: %w", err)
	}
	if part.Nonce != request.ReqBody.Nonce || !reply.CName.Equal(request.ReqBody.CName) || reply.CRealm != request.ReqBody.Realm || !part.SName.Equal(request.ReqBody.SName) {
		return errors.New("its answer is to another question")
	}
	return nil
}

// exchange sends a question and reads the answer (RFC 4120, section 7.2.2: over TCP).
func exchange(ctx context.Context, center string, request *messages.ASReq) (*messages.ASRep, *messages.KRBError, error) {
	raw, err := request.Marshal()
	if err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, timeToAnswer)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", center)
	if err != nil {
		return nil, nil, err
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	if _, err := conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(raw))), raw...)); err != nil {
		return nil, nil, err
	}
	var size [4]byte
	if _, err := io.ReadFull(conn, size[:]); err != nil {
		return nil, nil, fmt.Errorf("it did not answer: %w", err)
	}
	length := binary.BigEndian.Uint32(size[:])
	if length > longestReply {
		return nil, nil, fmt.Errorf("its answer has %d bytes", length)
	}
	answer := make([]byte, length)
	if _, err := io.ReadFull(conn, answer); err != nil {
		return nil, nil, fmt.Errorf("its answer broke off: %w", err)
	}
	var reply messages.ASRep
	if reply.Unmarshal(answer) == nil {
		return &reply, nil, nil
	}
	var said messages.KRBError
	if err := said.Unmarshal(answer); err != nil {
		return nil, nil, errors.New("its answer makes no sense")
	}
	return nil, &said, nil
}
