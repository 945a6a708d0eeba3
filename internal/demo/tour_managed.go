package demo

import "context"

// managedSteps are about accounts whose passwords the directory makes.
var managedSteps = []step{
	{"The lockers have a password that nobody knows: the directory makes it. Can the hosts use it? North1 was permitted on Monday, and has not been restarted since. The gates get such an account too.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"gmsa-lockers$"}, "managed", "list"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"a root key is in effect"}, "managed", "check", "larkmoor-directory"); err != nil {
			return err
		}
		if err := t.expect(ctx, 3, []string{"Locker Hosts", "NORTH1 knows that it is permitted", "restart it"}, "managed", "show", "larkmoor-directory/gmsa-lockers$"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"prove that the managed account gmsa-gates$ is there", "done"}, "managed", "create", "larkmoor-directory", "gmsa-gates", "--dns-name", "gates.larkmoor.example", "--group", "Locker Hosts", "--reason", "gates without a password")
	}},
}
