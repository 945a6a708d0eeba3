package credentials

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/amend"
	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// issuing are the flags of issue.
type issuing struct {
	certificate, to, like, lasts, keyType, reason string
	detach                                        bool
}

// issue is moss credential issue.
func issue() *cobra.Command {
	var r issuing
	cmd := &cobra.Command{Use: "issue ACCOUNT", Short: "Have a further key accepted for a service identity, with an end", Args: cobra.ExactArgs(1)}
	cmd.Long = "Gives a service identity of a cloud project a further key. The pair is made here, on this machine: the private\nhalf goes into a new file (--to) that only you may read, and nowhere else, not to the service either; what is\nsent is a certificate of its public half, which says when the key ends. With --certificate the pair is somebody\nelse's, and only the certificate is sent.\n--like takes a key file that a program reads now, and writes the new one like it, with the new key and its number.\nIt is rehearsed first and takes a second person, for it lets somebody in. 'moss amend undo' deletes the key again."
	cmd.Example = "  moss credential issue feeds/kiosktimes --lasts 90d --to kiosktimes.json --like old.json --reason 'the old one ends tomorrow'\n  moss credential issue feeds/kiosktimes --certificate kiosktimes.pem"
	output.AddFlag(cmd)
	f := cmd.Flags()
	f.StringVar(&r.certificate, "certificate", "", "file with the certificate of a key that somebody else made, in PEM")
	f.StringVar(&r.to, "to", "", "new file for the private half of a key that is made here")
	f.StringVar(&r.like, "like", "", "key file (JSON) that the new one is written like; it is not changed")
	f.StringVar(&r.lasts, "lasts", "90d", "how long a key that is made here is good: a span such as 90d, or never")
	f.StringVar(&r.keyType, "key-type", keys.IssuedTypes()[0], "of a key that is made here: ssh-rsa or ecdsa-sha2-nistp256")
	f.StringVar(&r.reason, "reason", "", "why; with it the act begins")
	f.BoolVar(&r.detach, "detach", false, "do not wait for its end")
	_ = cmd.RegisterFlagCompletionFunc("key-type", cobra.FixedCompletions(keys.IssuedTypes(), cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("lasts", cobra.FixedCompletions([]string{"30d", "90d", "365d", "never"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.MarkFlagsMutuallyExclusive("certificate", "to")
	cmd.MarkFlagsMutuallyExclusive("certificate", "like")
	cmd.MarkFlagsOneRequired("certificate", "to")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		resolved, err := c.ResolveCredential(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		if resolved.AccountID == 0 || resolved.Kind != "password" {
			return api.Exit(api.ExitUsage, fmt.Errorf("%s is no service identity: name one, such as feeds/kiosktimes", args[0]))
		}
		certificate, err := r.introduction(cmd, resolved.Name)
		if err != nil {
			return err
		}
		change := map[string]any{"act": expiry.Issue, "account_id": resolved.AccountID, "certificate": certificate}
		v, err := amend.Rehearse(cmd, c, format, "/expiry/rehearsals", map[string]any{"changes": []map[string]any{change}})
		if err != nil {
			return r.takeBack(err)
		}
		if r.reason == "" {
			output.Remark(cmd, "nothing is changed yet: 'moss amend start %s --reason WHY' begins it", output.Show(v["id"]))
			return nil
		}
		return amend.Start(cmd, c, format, output.Show(v["id"]), r.reason, r.detach)
	})
	return cmd
}

// introduction is the certificate that is sent; of a pair that is made here its private half
// is written down before.
func (r *issuing) introduction(cmd *cobra.Command, name string) (string, error) {
	if r.certificate != "" {
		raw, err := os.ReadFile(r.certificate)
		if err != nil {
			return "", api.Exit(api.ExitUsage, err)
		}
		if _, err := keys.ReadIntroduced(string(raw)); err != nil {
			return "", api.Exit(api.ExitUsage, fmt.Errorf("%s: %w", r.certificate, err))
		}
		return string(raw), nil
	}
	var until time.Time
	now := time.Now()
	if r.lasts != "never" {
		span, err := output.Span(r.lasts)
		if err != nil {
			return "", api.Exit(api.ExitUsage, err)
		}
		until = now.Add(span)
	}
	private, err := keys.Draw(r.keyType, rand.Reader)
	if err != nil {
		return "", api.Exit(api.ExitUsage, err)
	}
	text := private.RevealString()
	if r.like != "" {
		if text, err = r.alike(private); err != nil {
			return "", api.Exit(api.ExitUsage, fmt.Errorf("%s: %w", r.like, err))
		}
	}
	number, err := keys.NumberOf(private)
	if err != nil {
		return "", api.Exit(api.ExitUsage, err)
	}
	// An hour before now, for the issuer's clock may be behind.
	certificate, err := keys.Introduce(private, name, now.Add(-time.Hour), until, rand.Reader)
	if err != nil {
		return "", err
	}
	if err := writeNew(r.to, text); err != nil {
		return "", api.Exit(api.ExitUsage, err)
	}
	output.Remark(cmd, "the private half is in %s, and only there; its number is %s", r.to, number)
	return certificate, nil
}

// alike is a key file like another one, with a new key.
func (r *issuing) alike(private secret.Value) (string, error) {
	raw, err := os.ReadFile(r.like)
	if err != nil {
		return "", err
	}
	place := held.Locator{Layout: layout.KeyFile, Part: held.PartValue}
	was, err := held.Find(raw, place)
	if err != nil {
		return "", err
	}
	out, err := held.Replace(raw, place, was.Value, private)
	return string(out), err
}

// writeNew writes a file that was not there, for its owner alone, and onto the disk.
func writeNew(path, text string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.WriteString(f, text)
	return errors.Join(err, f.Sync(), f.Close())
}

// takeBack removes the file of a key that nobody was asked to accept.
func (r *issuing) takeBack(because error) error {
	if r.to == "" {
		return because
	}
	if err := os.Remove(r.to); err != nil {
		return errors.Join(because, err)
	}
	return fmt.Errorf("%w (nothing was asked for: %s was removed)", because, r.to)
}
