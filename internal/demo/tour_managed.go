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
		return t.expect(ctx, 0, []string{"prove that the managed account gmsa-gates$ is there", "done"}, "managed", "create", "larkmoor-directory", "gmsa-gates", "--dns-name", "gates.larkmoor.example", "--group", "Locker Hosts", "--member-of", "Terminal Services", "--reason", "gates without a password")
	}},
	{"North1 is restarted, so that it knows that it may have the password of the lockers. The gates at the skerry move to their own account: nobody has a password for them any more. The host cannot lose what runs on it.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"restart the host north1", "prove that north1 is up again", "done"}, "managed", "install", "gmsa-lockers$", "--host", "north1", "--restart", "--reason", "lockers at the north"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"done"}, "survey", "run", "larkmoor-directory", "north1", "skerry1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"it can use gmsa-gates$", "give the service QuayLineGates on skerry1 the log-on LARKMOOR\\gmsa-gates$", "finished done"}, "managed", "assign", "gmsa-gates$", "--filter", "system=skerry1", "--filter", "name=QuayLineGates", "--reason", "gates without a password"); err != nil {
			return err
		}
		return t.expect(ctx, 1, []string{"QuayLineGates on skerry1", "give them another log-on first"}, "managed", "remove", "gmsa-gates$", "--host", "skerry1")
	}},
}
