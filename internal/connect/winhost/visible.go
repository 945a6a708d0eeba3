package winhost

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/estate"
)

// errPartly is why a scope that was read without an error is not all there is.
var errPartly = errors.New("the host shows this steward a part only: it is not an administrator there, and what is not shown to it looks as if it were not there")

// Rights on a registry key (winnt.h names them KEY_SET_VALUE and so on).
const registryWrite = "2"

const servicesKey = `SYSTEM\CurrentControlSet\Services`

func registry(method, key string, more ...wsman.Pair) (wsman.Resource, string, []wsman.Pair) {
	return wsman.Resource{URI: registryURI}, method, append([]wsman.Pair{{Name: "hDefKey", Value: localMachine}, {Name: "sSubKeyName", Value: key}}, more...)
}

// seesAll finds out whether the host shows this steward everything. A host answers
// whoever may sign in, and leaves out what each thing's own descriptor hides from them,
// without a word. So it is asked for a right that administrators have and others do not:
// to write where services are kept. Nothing is written.
func (s *session) seesAll(ctx context.Context) error {
	resource, method, input := registry("CheckAccess", servicesKey, wsman.Pair{Name: "uRequired", Value: registryWrite})
	out, err := s.Invoke(ctx, resource, method, input)
	if failure := s.failure(connect.StageRead, err, false); failure != nil {
		return fmt.Errorf("whether the host shows everything could not be found out: %s", failure.Words)
	}
	if granted, known := out.Bool("bGranted"); !known || !granted {
		return errPartly
	}
	return nil
}

// partlyNext is what to do about a steward that is shown a part.
const partlyNext = "make the steward a member of the host's Administrators, or read what is found as a part: nothing is taken for gone"

// kindsOfServices are the bits of a service's type that make it one; drivers have others
// (MS-SCMR, section 2.2.15).
const kindsOfServices = 0x10 | 0x20

// hidden are the services whose own descriptor hides them also from administrators. They
// are not among the instances; what is kept of them in the registry is.
func (s *session) hidden(ctx context.Context, shown map[string]bool) ([]estate.Dependent, error) {
	resource, method, input := registry("EnumKey", servicesKey)
	keys, err := s.Invoke(ctx, resource, method, input)
	if err != nil {
		return nil, err
	}
	if code := keys.Int("ReturnValue"); code != 0 {
		return nil, fmt.Errorf("the names of all services could not be read: EnumKey returned %d", code)
	}
	var out []estate.Dependent
	for _, name := range keys.List("sNames") {
		if shown[strings.ToLower(name)] {
			continue
		}
		value := func(method, value, result string) (*wsman.Instance, string, error) {
			resource, method, input := registry(method, servicesKey+`\`+name, wsman.Pair{Name: "sValueName", Value: value})
			read, err := s.Invoke(ctx, resource, method, input)
			if err != nil || read.Int("ReturnValue") != 0 {
				return nil, "", err
			}
			return read, read.Text(result), nil
		}
		kind, _, err := value("GetDWORDValue", "Type", "uValue")
		if err != nil {
			return nil, err
		}
		if kind == nil || kind.Int("uValue")&kindsOfServices == 0 {
			continue // of a driver, or counters that a program left there
		}
		d := estate.Dependent{Kind: estate.DependentService, Place: name, Name: name, State: "hidden", Description: "hidden by its own security descriptor"}
		if _, d.RunsAs, err = value("GetStringValue", "ObjectName", "sValue"); err != nil {
			return nil, err
		}
		if _, d.Executable, err = value("GetStringValue", "ImagePath", "sValue"); err != nil {
			return nil, err
		}
		d.Stores = storesPassword(d.RunsAs)
		out = append(out, d)
	}
	return out, nil
}
