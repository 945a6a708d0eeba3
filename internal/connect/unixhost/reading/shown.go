package reading

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/shown"
	"mossledger.example/moss/internal/core/estate"
)

// OptionCertificates says whether ports that listen are asked for their certificates.
const OptionCertificates = "certificates"

// shown asks the ports that listen which certificates they show. The host's own SSH server
// connects (RFC 4254, section 7.2), so that ports are reached that listen for the host alone;
// where it does not, those that others reach are asked from here.
func (v *visit) shown(ctx context.Context) *connect.Failure {
	switch {
	case v.Target.Options[OptionCertificates] == "off":
		v.incomplete(connect.ScopeCertificates, "ports are not asked for certificates: the option "+OptionCertificates+" is off")
		return nil
	case v.coverage.Why[connect.ScopeSockets] != "" && len(v.listens) == 0:
		v.incomplete(connect.ScopeCertificates, "the ports that listen were not read")
		return nil
	}
	seen := shown.Ports(ctx, shown.From(v.Client, v.Target.Address, v.everywhere), v.listens, v.certified, shown.Prohibited)
	if err := ctx.Err(); err != nil {
		return v.Target.Fail(connect.StageRead, connect.CodeTimeout, "asking ports for certificates: "+err.Error(), "", err)
	}
	if all := shown.Count(v.listens); all > shown.MostPorts {
		v.incomplete(connect.ScopeCertificates, fmt.Sprintf("%d ports listen, at most %d are asked for certificates", all, shown.MostPorts))
	}
	if seen.LeftOut > 0 {
		v.incomplete(connect.ScopeCertificates, fmt.Sprintf("the certificates in files here have so many names that ports were not asked for all: %d times one was left out", seen.LeftOut))
	}
	if seen.Unasked > 0 {
		v.incomplete(connect.ScopeCertificates, fmt.Sprintf("%d ports could not be asked: the host's SSH server does not connect for %s (AllowTcpForwarding), and they are not reached from here", seen.Unasked, v.Target.Steward.Account))
	}
	v.count(connect.ScopeCertificates, len(seen.Batch.Dependents))
	return v.send(seen.Batch)
}

// everywhere: the port listens on all addresses, and is asked on the host's own.
func (v *visit) everywhere(port string) bool {
	return slices.ContainsFunc(v.listens, func(s estate.Socket) bool {
		return s.Listens && strconv.Itoa(s.LocalPort) == port && shown.Everywhere(s)
	})
}
