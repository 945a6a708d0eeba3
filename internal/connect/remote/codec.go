package remote

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/nacl/box"

	"mossledger.example/moss/internal/core/secret"
)

// A secret crosses sealed to the other end, for one call and one place in it: who
// carries a message cannot read a secret, move it to another field, whose words
// would be shown, or send it again in another call.

// KeyPair is one end's.
type KeyPair struct {
	public, private *[32]byte
}

// NewKeyPair draws one.
func NewKeyPair() (KeyPair, error) {
	public, private, err := box.GenerateKey(rand.Reader)
	return KeyPair{public, private}, err
}

// Public is what the other end seals to.
func (k KeyPair) Public() [32]byte { return *k.public }

// writer turns values into what JSON can hold, secrets sealed.
type writer struct {
	call string
	to   [32]byte
}

// reader turns them back.
type reader struct {
	call string
	own  KeyPair
}

var (
	secretType   = reflect.TypeFor[secret.Value]()
	timeType     = reflect.TypeFor[time.Time]()
	errNotSealed = errors.New("a secret is not sealed for this call and place")
)

func bound(call, place string) string { return call + "\x00" + place + "\x00" }

func (w writer) seal(v secret.Value, place string) (any, error) {
	if v.Empty() {
		return "", nil
	}
	sealed, err := box.SealAnonymous(nil, append([]byte(bound(w.call, place)), v.Reveal()...), &w.to, rand.Reader)
	return base64.StdEncoding.EncodeToString(sealed), err
}

func (r reader) open(text, place string) (secret.Value, error) {
	if text == "" {
		return secret.Value{}, nil
	}
	sealed, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return secret.Value{}, errNotSealed
	}
	plain, ok := box.OpenAnonymous(nil, sealed, r.own.public, r.own.private)
	if !ok {
		return secret.Value{}, errNotSealed
	}
	value, found := strings.CutPrefix(string(plain), bound(r.call, place))
	clear(plain)
	if !found {
		return secret.Value{}, errNotSealed
	}
	return secret.New(value), nil
}

// write makes a tree of maps, lists and plain values.
func (w writer) write(v reflect.Value, place string) (any, error) {
	switch v.Type() {
	case secretType:
		return w.seal(v.Interface().(secret.Value), place) //nolint:forcetypeassert // its type was looked at
	case timeType:
		return v.Interface(), nil
	}
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return nil, nil
		}
		return w.write(v.Elem(), place)
	case reflect.Struct:
		out := map[string]any{}
		for i := range v.NumField() {
			f := v.Type().Field(i)
			if !f.IsExported() || v.Field(i).IsZero() && v.Field(i).Kind() != reflect.Slice && v.Field(i).Kind() != reflect.Map {
				continue
			}
			one, err := w.write(v.Field(i), place+"."+f.Name)
			if err != nil {
				return nil, err
			}
			out[f.Name] = one
		}
		return out, nil
	case reflect.Slice:
		if v.IsNil() {
			return nil, nil
		}
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return base64.StdEncoding.EncodeToString(v.Bytes()), nil
		}
		out := make([]any, v.Len())
		for i := range out {
			one, err := w.write(v.Index(i), place+"."+strconv.Itoa(i))
			if err != nil {
				return nil, err
			}
			out[i] = one
		}
		return out, nil
	case reflect.Map:
		if v.IsNil() {
			return nil, nil
		}
		out := map[string]any{}
		for _, key := range v.MapKeys() {
			one, err := w.write(v.MapIndex(key), place+"."+key.String())
			if err != nil {
				return nil, err
			}
			out[key.String()] = one
		}
		return out, nil
	case reflect.Interface, reflect.Func, reflect.Chan, reflect.UnsafePointer:
		return nil, fmt.Errorf("%s: %s cannot cross", place, v.Type())
	}
	return v.Interface(), nil
}

// read fills a value from a tree.
func (r reader) read(raw json.RawMessage, into reflect.Value, place string) error {
	if len(raw) == 0 || string(raw) == "null" {
		return nil
	}
	switch into.Type() {
	case secretType:
		var text string
		if err := json.Unmarshal(raw, &text); err != nil {
			return errNotSealed
		}
		value, err := r.open(text, place)
		into.Set(reflect.ValueOf(value))
		return err
	case timeType:
		return json.Unmarshal(raw, into.Addr().Interface())
	}
	switch into.Kind() {
	case reflect.Pointer:
		into.Set(reflect.New(into.Type().Elem()))
		return r.read(raw, into.Elem(), place)
	case reflect.Struct:
		var fields map[string]json.RawMessage
		if err := json.Unmarshal(raw, &fields); err != nil {
			return fmt.Errorf("%s: %w", place, err)
		}
		for i := range into.NumField() {
			f := into.Type().Field(i)
			if one, found := fields[f.Name]; found && f.IsExported() {
				if err := r.read(one, into.Field(i), place+"."+f.Name); err != nil {
					return err
				}
			}
		}
		return nil
	case reflect.Slice:
		if into.Type().Elem().Kind() == reflect.Uint8 {
			return json.Unmarshal(raw, into.Addr().Interface())
		}
		var list []json.RawMessage
		if err := json.Unmarshal(raw, &list); err != nil {
			return fmt.Errorf("%s: %w", place, err)
		}
		into.Set(reflect.MakeSlice(into.Type(), len(list), len(list)))
		for i, one := range list {
			if err := r.read(one, into.Index(i), place+"."+strconv.Itoa(i)); err != nil {
				return err
			}
		}
		return nil
	case reflect.Map:
		var fields map[string]json.RawMessage
		if err := json.Unmarshal(raw, &fields); err != nil {
			return fmt.Errorf("%s: %w", place, err)
		}
		into.Set(reflect.MakeMap(into.Type()))
		for key, one := range fields {
			value := reflect.New(into.Type().Elem()).Elem()
			if err := r.read(one, value, place+"."+key); err != nil {
				return err
			}
			into.SetMapIndex(reflect.ValueOf(key).Convert(into.Type().Key()), value)
		}
		return nil
	}
	return json.Unmarshal(raw, into.Addr().Interface())
}
