package winhost

import (
	"context"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect/wsman"
)

// cluster is the failover cluster that a host is a node of.
type cluster struct {
	nodes     []string
	resources map[string]string // by folded name of the service, the resource's name
}

// clusterOf reads which services of a host are resources of a cluster; nil for a host
// in none. Such a service must not be restarted by the service manager: the cluster
// takes that for a fault, and moves it to another node, where it logs on with what that
// node has stored.
func (s *session) clusterOf(ctx context.Context) (*cluster, error) {
	c := &cluster{resources: map[string]string{}}
	err := s.all(ctx, spaceCluster, "MSCluster_Resource", "", func(i *instance) error {
		if properties := i.Child("PrivateProperties"); properties != nil {
			if inner := properties.Child("MSCluster_Property_Generic_Service"); inner != nil {
				properties = inner
			}
			if name := properties.Text("ServiceName"); name != "" {
				c.resources[strings.ToLower(name)] = i.Text("Name")
			}
		}
		return nil
	})
	if absent(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	err = s.all(ctx, spaceCluster, "MSCluster_Node", "", func(i *instance) error {
		c.nodes = append(c.nodes, i.Text("Name"))
		return nil
	})
	return c, err
}

// holds is the resource that a service is, or "".
func (c *cluster) holds(service string) string {
	if c == nil {
		return ""
	}
	return c.resources[strings.ToLower(service)]
}

// others are the nodes beside one.
func (c *cluster) others(than string) string {
	rest := slices.DeleteFunc(slices.Clone(c.nodes), func(n string) bool { return strings.EqualFold(n, than) })
	return strings.Join(rest, ", ")
}

const clusterNext = "take the resource offline and online in the cluster's own tools, when the log-on is changed on every node; here choose to leave it running"

// taskMethodWorks calls the method that gives a task a log-on, for a task that cannot
// exist, and with an account that has no password: a host that has the method says that
// there is no such task, and one that has not says that. Nothing is tried with a password,
// which would count as a failed sign-in.
func (s *session) taskMethodWorks(ctx context.Context, task *instance, byPrincipal bool) (works bool, words string) {
	const folder, name, account = `\<no task is called so>\`, "?", `NT AUTHORITY\LOCAL SERVICE`
	resource, method, input := taskMethod(folder, name, account, "")
	_, err := s.Invoke(ctx, resource, method, input)
	if present := task.Child("Principal"); byPrincipal && present != nil && noSuchTask(err) {
		var principal wsman.Embedded
		resource, method, input, principal = principalMethod(folder, name, account, present)
		_, err = s.Invoke(ctx, resource, method, input, principal)
	}
	switch {
	case err == nil:
		return false, method + " succeeded for a task that cannot exist: it does not do what it should"
	case noSuchTask(err):
		return true, ""
	}
	return false, "the method that gives a task its log-on: " + s.failure("", err, false).Words
}

// noSuchTask: the scheduler's answers for a file or a path that is not there, or that
// has no name that a file can have.
func noSuchTask(err error) bool {
	for _, number := range []string{"2147942402", "2147942403", "2147942523", wsman.NumberObjectGone} {
		if wsman.Is(err, number) {
			return true
		}
	}
	return false
}
