package service

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/withheld"
)

// SystemInput is what a person gives of a system.
type SystemInput struct {
	Name        string            `json:"name" minLength:"1" maxLength:"255"`
	Kind        string            `json:"kind" doc:"One of /kinds"`
	Address     string            `json:"address,omitempty" maxLength:"255" doc:"Host name or IP address; the name is used when it is empty"`
	Port        int               `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"The kind's usual port when it is 0"`
	Steward     string            `json:"steward,omitempty"`
	Site        string            `json:"site,omitempty" maxLength:"200"`
	Environment string            `json:"environment,omitempty" maxLength:"200"`
	Owner       string            `json:"owner,omitempty" maxLength:"200"`
	Options     map[string]string `json:"options,omitempty" doc:"Those of its kind, see /kinds"`
	TrustedCA   string            `json:"trusted_ca,omitempty" doc:"PEM of the CA that the certificate is verified against"`
}

func (in SystemInput) system() records.System {
	return records.System{Name: in.Name, Kind: in.Kind, Address: in.Address, Port: in.Port, Steward: in.Steward, Site: in.Site, Environment: in.Environment, Owner: in.Owner, Options: in.Options, TrustedCA: in.TrustedCA}
}

type tagged[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

func taggedSystem(v records.System, err error) (*tagged[records.System], error) {
	if err != nil {
		return nil, err
	}
	return &tagged[records.System]{ETag: fmt.Sprintf(`"%d"`, v.Revision), Body: v}, nil
}

// CheckAnswer is a system with the stages that a check went through.
type CheckAnswer struct {
	System records.System      `json:"system"`
	Report connect.CheckReport `json:"report"`
	OK     bool                `json:"ok"`
}

type importInput struct {
	Body struct {
		List           string `json:"list,omitempty" doc:"CSV with a header line, or one name a line"`
		Directory      string `json:"directory,omitempty" doc:"System whose computers are taken instead"`
		Base           string `json:"base,omitempty" doc:"Subtree of that directory"`
		Kind           string `json:"kind,omitempty"`
		Steward        string `json:"steward,omitempty"`
		Site           string `json:"site,omitempty"`
		Environment    string `json:"environment,omitempty"`
		Owner          string `json:"owner,omitempty"`
		WindowsSteward string `json:"windows_steward,omitempty" doc:"Steward for windows hosts that name none"`
		WindowsSignIn  string `json:"windows_signin,omitempty" enum:"kerberos,ntlm,basic," doc:"How to sign in to windows hosts"`
		WindowsCA      string `json:"windows_ca,omitempty" maxLength:"100000" doc:"PEM of the CA that signed their certificates"`
	}
}

func (s *Service) registerSystems() {
	add(s, http.MethodGet, "/kinds", "list-kinds", "List the kinds of system: options, what is read, what they can do", func(_ context.Context, _ *empty) (*body[[]connect.Description], error) {
		return answer(connect.Descriptions(), nil)
	})
	add(s, http.MethodGet, "/stewards", "list-stewards", "List stewards: the accounts by which systems are reached", func(ctx context.Context, in *ListInput) (*body[records.Page[records.Steward]], error) {
		return answer(s.store.Stewards(ctx, in.Query()))
	})
	add(s, http.MethodPut, "/stewards/{name}", "save-steward", "Add or replace a steward", s.saveSteward)
	add(s, http.MethodDelete, "/stewards/{name}", "remove-steward", "Remove a steward that no system uses", func(ctx context.Context, in *NameInput) (*empty, error) {
		return &empty{}, s.app.Inventory.RemoveSteward(ctx, who(ctx), in.Name)
	})
	add(s, http.MethodGet, "/systems", "list-systems", "List systems", func(ctx context.Context, in *ListInput) (*body[records.Page[records.System]], error) {
		return answer(s.store.Systems(ctx, in.Query()))
	})
	add(s, http.MethodPost, "/systems", "add-system", "Add a system", func(ctx context.Context, in *body[SystemInput]) (*tagged[records.System], error) {
		if _, err := s.app.Inventory.Add(ctx, who(ctx), in.Body.system()); err != nil {
			return nil, err
		}
		return taggedSystem(s.store.System(ctx, in.Body.Name))
	})
	add(s, http.MethodPost, "/systems/import", "import-systems", "Add systems from a list or from a directory subtree", s.importSystems)
	add(s, http.MethodGet, "/systems/{name}", "get-system", "Show a system", func(ctx context.Context, in *NameInput) (*tagged[records.System], error) {
		return taggedSystem(s.store.System(ctx, in.Name))
	})
	add(s, http.MethodPut, "/systems/{name}", "change-system", "Change a system", s.changeSystem)
	add(s, http.MethodGet, "/systems/{name}/removal", "get-removal", "Show what would go with a system", func(ctx context.Context, in *NameInput) (*body[records.Removal], error) {
		v, err := s.store.System(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return answer(s.store.Removal(ctx, v.ID))
	})
	add(s, http.MethodDelete, "/systems/{name}", "remove-system", "Remove a system with all that was seen on it", func(ctx context.Context, in *NameInput) (*empty, error) {
		return &empty{}, s.app.Inventory.Remove(ctx, who(ctx), in.Name)
	})
	add(s, http.MethodPost, "/systems/{name}/check", "check-system", "Try to reach a system, stage by stage", func(ctx context.Context, in *NameInput) (*body[CheckAnswer], error) {
		v, report, err := s.app.Inventory.Check(ctx, who(ctx), in.Name, "")
		return answer(CheckAnswer{v, report, report.OK()}, err)
	})
	type confirmInput struct {
		NameInput
		Body struct {
			Reason string `json:"reason" minLength:"1" maxLength:"500"`
		}
	}
	add(s, http.MethodPost, "/systems/{name}/absence", "confirm-absence", "Say that what vanished from a system is gone; it is read again", func(ctx context.Context, in *confirmInput) (*body[records.Survey], error) {
		id, err := s.app.Surveys.ConfirmAbsence(ctx, who(ctx), in.Name, in.Body.Reason)
		if err != nil {
			return nil, err
		}
		return answer(s.store.Survey(ctx, id))
	})
	type approveInput struct {
		NameInput
		Body struct {
			Fingerprint string `json:"fingerprint" minLength:"10" maxLength:"100" doc:"SHA256:... as a check shows it"`
		}
	}
	add(s, http.MethodPost, "/systems/{name}/host-key", "approve-host-key", "Approve the host key that a system offers, and check it", func(ctx context.Context, in *approveInput) (*body[CheckAnswer], error) {
		v, report, err := s.app.Inventory.Check(ctx, who(ctx), in.Name, in.Body.Fingerprint)
		return answer(CheckAnswer{v, report, report.OK()}, err)
	})
	type listedInput struct {
		Body struct {
			KnownHosts string `json:"known_hosts" minLength:"1" maxLength:"4000000" doc:"Lines of a known_hosts file, or what ssh-keyscan printed"`
		}
	}
	add(s, http.MethodPost, "/systems/host-keys", "approve-listed-keys", "Approve the host key of every host that offers, now, a key that a list has for it", func(ctx context.Context, in *listedInput) (*body[inventory.ListedKeys], error) {
		return answer(s.app.Inventory.ApproveListed(ctx, who(ctx), in.Body.KnownHosts))
	})
}

type saveStewardInput struct {
	NameInput
	Body struct {
		Account    string          `json:"account" minLength:"1" maxLength:"500"`
		Password   withheld.Secret `json:"password,omitempty"`
		PrivateKey withheld.Secret `json:"private_key,omitempty" doc:"PEM"`
	}
}

func (s *Service) saveSteward(ctx context.Context, in *saveStewardInput) (*body[records.Steward], error) {
	if err := s.app.Inventory.SaveSteward(ctx, who(ctx), in.Name, in.Body.Account, in.Body.Password.Value, in.Body.PrivateKey.Value); err != nil {
		return nil, err
	}
	v, err := s.store.Steward(ctx, in.Name)
	v.HasPassword, v.HasKey = len(v.SealedPassword) > 0, len(v.SealedKey) > 0
	return answer(v, err)
}

func (s *Service) importSystems(ctx context.Context, in *importInput) (*body[inventory.Import], error) {
	defaults := inventory.Defaults{Kind: in.Body.Kind, Steward: in.Body.Steward, Site: in.Body.Site, Environment: in.Body.Environment, Owner: in.Body.Owner, WindowsSteward: in.Body.WindowsSteward, WindowsSignIn: in.Body.WindowsSignIn, TrustedCA: in.Body.WindowsCA}
	if in.Body.Directory != "" {
		return answer(s.app.Inventory.ImportDirectory(ctx, who(ctx), in.Body.Directory, in.Body.Base, defaults))
	}
	return answer(s.app.Inventory.ImportList(ctx, who(ctx), strings.NewReader(in.Body.List), defaults))
}

type changeSystemInput struct {
	NameInput
	IfMatch string `header:"If-Match" doc:"ETag of what was seen"`
	Body    SystemInput
}

func (s *Service) changeSystem(ctx context.Context, in *changeSystemInput) (*tagged[records.System], error) {
	have, err := s.store.System(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	revision := have.Revision
	if in.IfMatch == "" {
		return nil, huma.NewError(http.StatusPreconditionRequired, "send If-Match with the ETag of the system as you saw it")
	}
	if in.IfMatch != "*" {
		if revision, err = strconv.ParseInt(strings.Trim(in.IfMatch, `"`), 10, 64); err != nil {
			return nil, huma.Error400BadRequest("If-Match is not an ETag of this service")
		}
	}
	next := in.Body.system()
	if !strings.EqualFold(next.Name, have.Name) || next.Kind != have.Kind {
		return nil, huma.Error400BadRequest("name and kind of a system cannot be changed: add it anew")
	}
	next.ID, next.Name = have.ID, have.Name
	if err := s.app.Inventory.Change(ctx, who(ctx), have, next, revision); err != nil {
		return nil, err
	}
	return taggedSystem(s.store.System(ctx, in.Name))
}
