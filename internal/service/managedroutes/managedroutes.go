// Package managedroutes has the operations about accounts whose passwords a directory makes by
// itself.
package managedroutes

import (
	"context"
	"net/http"
	"time"

	"mossledger.example/moss/internal/app/managing"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
)

type checkInput struct {
	Name      string            `path:"name" doc:"Name or number of a directory"`
	Container string            `query:"container" maxLength:"1000" doc:"Distinguished name of where an account is to stand; the directory's own place for them without it"`
	Account   records.AccountID `query:"account" minimum:"0" doc:"Number of one that is there already"`
	Hosts     []string          `query:"host,explode" maxItems:"200" doc:"Hosts that are to use it, by their names in the directory or here; all that are permitted without any"`
}

type createInput struct {
	Name string `path:"name" doc:"Name or number of a directory"`
	Body struct {
		Name      string   `json:"name" minLength:"1" maxLength:"100" doc:"Of the account: at most 15 characters, and a $ that may be left out"`
		DNSName   string   `json:"dns_name" minLength:"1" maxLength:"253" doc:"Its whole DNS name"`
		Interval  int      `json:"interval_days,omitempty" minimum:"0" maximum:"3650" doc:"After which its password changes; 30 without it. It is fixed once the account is there"`
		Container string   `json:"container,omitempty" maxLength:"1000" doc:"Distinguished name of where it is to stand; the directory's own place for them without it"`
		Group     string   `json:"group,omitempty" maxLength:"1000" doc:"Whose hosts may ask for its password, by name or distinguished name; nobody without it"`
		Services  []string `json:"services,omitempty" maxItems:"100" doc:"Service principal names"`
		MemberOf  []string `json:"member_of,omitempty" maxItems:"20" doc:"Groups that it becomes a member of itself, by name or distinguished name: those that have the rights that it needs on hosts"`
		OldTypes  bool     `json:"old_types,omitempty" doc:"RC4 besides AES, for hosts that have nothing better"`
		Early     string   `json:"early,omitempty" maxLength:"500" doc:"Why it is created although no root key is in effect yet: for tests"`
	}
}

type permitInput struct {
	ID   records.AccountID `path:"id" minimum:"1"`
	Body struct {
		Group string `json:"group" minLength:"1" maxLength:"1000" doc:"Whose hosts may ask for its password, by name or distinguished name"`
	}
}

type hostsInput struct {
	ID   records.AccountID `path:"id" minimum:"1"`
	Body struct {
		Hosts     []string  `json:"hosts" minItems:"1" maxItems:"200" doc:"By their names in the directory or here"`
		Group     string    `json:"group,omitempty" maxLength:"1000" doc:"That they become members of; the only one that is permitted without it"`
		Restart   bool      `json:"restart,omitempty" doc:"Restart those that have to learn of it, one after the other"`
		NotBefore time.Time `json:"not_before,omitzero" doc:"Beginning of the window of the restarts"`
		NotAfter  time.Time `json:"not_after,omitzero" doc:"End of it"`
	}
}

type removalInput struct {
	ID   records.AccountID `path:"id" minimum:"1"`
	Body struct {
		Hosts []string `json:"hosts,omitempty" maxItems:"200" doc:"Take these hosts out of the group, by their names in the directory or here"`
		Group string   `json:"group,omitempty" maxLength:"1000" doc:"Let the hosts of this group no longer ask for its password"`
		Hours int      `json:"watch_hours,omitempty" minimum:"0" maximum:"8784" doc:"Of the account itself, where neither hosts nor a group are named: for so long nothing may ask for it, disabled, before it is deleted"`
	}
}

// Register adds them.
func Register(r *routing.Router, managed func() *managing.Managing) {
	routing.Add(r, http.MethodGet, "/systems/{name}/managed", "check-managed", "Check what managed accounts need: of a directory, of one of them, and of the hosts that are to use it", func(ctx context.Context, in *checkInput) (*routing.Body[managing.ManagedReport], error) {
		return routing.Answer(managed().Check(ctx, routing.Who(ctx), in.Name, managing.Wish{Container: in.Container, Account: in.Account, Hosts: in.Hosts}))
	})
	routing.Add(r, http.MethodPost, "/systems/{name}/managed", "rehearse-managed", "Rehearse creating a managed account: the amendment that is answered is started as others are", func(ctx context.Context, in *createInput) (*routing.Body[records.Amendment], error) {
		b := in.Body
		return routing.Answer(managed().RehearseNew(ctx, routing.Who(ctx), in.Name, managing.NewAccount{
			Name: b.Name, DNSName: b.DNSName, Interval: b.Interval, Container: b.Container, Group: b.Group, Services: b.Services, OldTypes: b.OldTypes, Early: b.Early, MemberOf: b.MemberOf,
		}))
	})
	routing.Add(r, http.MethodPost, "/accounts/{id}/managed/permit", "rehearse-permit", "Rehearse letting the hosts of a group ask for the password of a managed account: the amendment that is answered is started as others are", func(ctx context.Context, in *permitInput) (*routing.Body[records.Amendment], error) {
		return routing.Answer(managed().RehearsePermit(ctx, routing.Who(ctx), in.ID, in.Body.Group))
	})
	routing.Add(r, http.MethodPost, "/accounts/{id}/managed/hosts", "rehearse-hosts", "Rehearse letting hosts fetch the password of a managed account: they become members of the group that may, and are restarted; the amendment that is answered is started as others are", func(ctx context.Context, in *hostsInput) (*routing.Body[records.Amendment], error) {
		b := in.Body
		return routing.Answer(managed().RehearseHosts(ctx, routing.Who(ctx), in.ID, managing.HostsWish{Hosts: b.Hosts, Group: b.Group, Restart: b.Restart, NotBefore: b.NotBefore, NotAfter: b.NotAfter}))
	})
	routing.Add(r, http.MethodPost, "/accounts/{id}/managed/removal", "rehearse-removal", "Rehearse taking a managed account from hosts, from the hosts of a group, or away altogether, where nothing uses it: the amendment that is answered is started as others are", func(ctx context.Context, in *removalInput) (*routing.Body[records.Amendment], error) {
		b := in.Body
		return routing.Answer(managed().RehearseRemoval(ctx, routing.Who(ctx), in.ID, managing.RemoveWish{Hosts: b.Hosts, Group: b.Group, Watch: time.Duration(b.Hours) * time.Hour}))
	})
}
