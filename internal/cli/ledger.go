package cli

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/core/ledger"
)

type signedHead struct {
	Checkpoint string `json:"checkpoint"`
	Verifier   string `json:"verifier"`
}

func ledgerCommand() *cobra.Command {
	checkpoint := &cobra.Command{
		Use: "checkpoint", Short: "Print the signed head of the ledger, to be kept elsewhere", Args: cobra.NoArgs,
		Long:    "Prints the signed head of the ledger and the key to verify it with. Keep both away from\nthe service, for instance after each audit: 'moss ledger verify --checkpoint FILE' then\nproves that nothing before it was altered since.",
		Example: "  moss ledger checkpoint --as note > 2026-11.checkpoint",
	}
	var as string
	checkpoint.Flags().StringVar(&as, "as", "", "note: the signed note alone; verifier: the public key alone")
	_ = checkpoint.RegisterFlagCompletionFunc("as", cobra.FixedCompletions([]string{"note", "verifier"}, cobra.ShellCompDirectiveNoFileComp))
	output.AddFlag(checkpoint)
	checkpoint.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
		var v signedHead
		if err := c.Call(cmd.Context(), http.MethodGet, "/ledger/checkpoint", nil, &v); err != nil {
			return err
		}
		switch {
		case as == "note":
			fmt.Fprint(cmd.OutOrStdout(), v.Checkpoint)
		case as == "verifier":
			fmt.Fprintln(cmd.OutOrStdout(), v.Verifier)
		case as != "":
			return api.Exit(api.ExitUsage, fmt.Errorf("--as %s: note or verifier", as))
		case format != "table":
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"CHECKPOINT", "checkpoint"}, {"VERIFIER", "verifier"}}, []output.Row{{"checkpoint": v.Checkpoint, "verifier": v.Verifier}}, v)
		default:
			fmt.Fprintf(cmd.OutOrStdout(), "%s\nverifier %s\n", v.Checkpoint, v.Verifier)
		}
		return nil
	})
	return output.Group("ledger", "The record that cannot be altered unnoticed", ledgerVerify(), checkpoint, ledgerExport(),
		output.ListCommand("list", "List entries, the newest first", "/ledger", []output.Column{{"#", "index"}, {"TIME", "time"}, {"ACTOR", "actor"}, {"ACT", "act"}, {"PHASE", "phase"}, {"RESULT", "result"}, {"SUBJECT", "subject"}, {"SYSTEM", "system"}, {"REASON", "reason"}, {"DETAIL", "detail"}, {"CHANGES", "changes"}}, "The ledger is empty."))
}

// ledgerVerify verifies a running service's ledger, or an export without any.
func ledgerVerify() *cobra.Command {
	var offline, keyFile string
	var kept []string
	cmd := &cobra.Command{
		Use: "verify", Short: "Prove that no entry was altered, and name those that were", Args: cobra.NoArgs,
		Long: `Without --offline, the service recomputes its whole ledger. Checkpoints that were kept
elsewhere are held against it here, by consistency proofs (RFC 6962): the service is not
believed what it says about them.

With --offline, an export is verified without a service and without a sign-in. The key
must come from elsewhere than the export: from 'moss ledger checkpoint --as verifier', kept.`,
		Example: "  moss ledger verify --checkpoint 2026-11.checkpoint --key ledger.key\n  moss ledger verify --offline ledger.jsonl --key ledger.key --checkpoint 2026-11.checkpoint",
	}
	cmd.Flags().StringVar(&offline, "offline", "", "verify this export instead, - for standard input")
	cmd.Flags().StringVar(&keyFile, "key", "", "file with the ledger's public key, or the key itself")
	cmd.Flags().StringSliceVar(&kept, "checkpoint", nil, "file with a signed head that was kept (repeatable)")
	output.AddFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		heads := make([]string, len(kept))
		for i, file := range kept {
			raw, err := os.ReadFile(file)
			if err != nil {
				return fmt.Errorf("checkpoint: %w", err)
			}
			heads[i] = string(noteOf(raw))
		}
		key, err := ledgerKey(keyFile)
		if err != nil {
			return err
		}
		if offline != "" {
			return verifyExport(cmd, offline, key, heads)
		}
		return output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, _ []string) error {
			return verifyService(cmd, c, key, kept, heads)
		})(cmd, args)
	}
	return cmd
}

// noteOf drops what the plain form of 'moss ledger checkpoint' prints behind
// the signed note.
func noteOf(raw []byte) []byte {
	raw = bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n"))
	if i := bytes.LastIndex(raw, []byte("\n\nverifier ")); i >= 0 {
		raw = raw[:i+1]
	}
	return raw
}

func ledgerKey(fileOrKey string) (string, error) {
	if fileOrKey == "" || strings.HasPrefix(fileOrKey, ledger.Origin+"+") {
		return fileOrKey, nil
	}
	raw, err := os.ReadFile(fileOrKey)
	if err != nil {
		return "", fmt.Errorf("key of the ledger: %w", err)
	}
	return strings.TrimPrefix(strings.TrimSpace(string(raw)), "verifier "), nil
}

func verifyExport(cmd *cobra.Command, file, key string, kept []string) error {
	if key == "" {
		return api.Exit(api.ExitUsage, errors.New("--offline needs --key: the key that stands in the export could be a forger's"))
	}
	in := cmd.InOrStdin()
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return fmt.Errorf("export: %w", err)
		}
		defer f.Close()
		in = f
	}
	header, source, err := ledger.ReadExport(in)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	source.VerifierKey, source.Earlier = key, kept
	report, err := ledger.Verify(source)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	if header.Verifier != key {
		report.Problems = append(report.Problems, "the export names another key than the one that was given")
	}
	return tellReport(cmd, report, len(kept))
}

func verifyService(cmd *cobra.Command, c *api.Client, key string, files, kept []string) error {
	var v ledger.Report
	if err := c.Call(cmd.Context(), http.MethodPost, "/ledger/verify", map[string]any{"checkpoints": kept}, &v); err != nil {
		return err
	}
	v.Earlier = []int64{} // that is found out here
	for i, text := range kept {
		size, err := provesCheckpoint(cmd, c, text, key)
		var refused *api.Problem
		switch {
		case errors.As(err, &refused) && refused.Status >= http.StatusInternalServerError:
			return err
		case err != nil:
			v.Problems = append(v.Problems, fmt.Sprintf("%s: %v", files[i], err))
		default:
			v.Earlier = append(v.Earlier, size)
		}
	}
	return tellReport(cmd, v, len(kept))
}

// provesCheckpoint holds a kept checkpoint against the ledger of now.
func provesCheckpoint(cmd *cobra.Command, c *api.Client, text, key string) (int64, error) {
	var now signedHead
	if err := c.Call(cmd.Context(), http.MethodGet, "/ledger/checkpoint", nil, &now); err != nil {
		return 0, err
	}
	if key != "" && now.Verifier != key {
		return 0, errors.New("the service uses another key than the one that was given")
	}
	older, err := ledger.OpenHead(text, cmp.Or(key, now.Verifier))
	if err != nil {
		return 0, err
	}
	newer, err := ledger.OpenHead(now.Checkpoint, now.Verifier)
	if err != nil || older.Size > newer.Size || older.Size == 0 {
		return older.Size, errors.Join(err, ledger.CheckProof(older, newer, nil))
	}
	var proof struct {
		signedHead
		Hashes []string `json:"hashes"`
	}
	if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/ledger/proof?from=%d", older.Size), nil, &proof); err != nil {
		return 0, err
	}
	if newer, err = ledger.OpenHead(proof.Checkpoint, now.Verifier); err != nil {
		return 0, err
	}
	hashes, err := ledger.ParseHashes(proof.Hashes)
	if err != nil {
		return 0, err
	}
	return older.Size, ledger.CheckProof(older, newer, hashes)
}

func tellReport(cmd *cobra.Command, v ledger.Report, kept int) error {
	format, err := output.FormatOf(cmd)
	if err != nil {
		return err
	}
	if format != "table" {
		r := output.Row{"ok": v.OK(), "entries": v.Entries, "problems": strings.Join(v.Problems, "; "), "head": v.Head}
		whole := struct {
			OK bool `json:"ok"`
			ledger.Report
		}{v.OK(), v}
		if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"OK", "ok"}, {"ENTRIES", "entries"}, {"PROBLEMS", "problems"}, {"HEAD", "head"}}, []output.Row{r}, whole); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(cmd.OutOrStdout(), "%d entries, tree %s\n", v.Entries, v.Head)
		for _, p := range v.Problems {
			fmt.Fprintln(cmd.OutOrStdout(), "  "+output.Safe(p))
		}
	}
	if !v.OK() {
		return api.Negative("the ledger does not hold: %d problem(s)", len(v.Problems))
	}
	if format == "table" {
		fmt.Fprintln(cmd.OutOrStdout(), "The ledger holds: every entry gives its hash, and all of them give the signed checkpoint.")
		if kept > 0 {
			fmt.Fprintf(cmd.OutOrStdout(), "It begins with what the %d kept checkpoint(s) signed: entries %v.\n", len(v.Earlier), v.Earlier)
		}
	}
	return nil
}

func ledgerExport() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use: "export", Short: "Write the whole ledger as JSON lines, to be verified anywhere", Args: cobra.NoArgs,
		Long: `Writes JSON lines. The first holds the signed checkpoint; every further line, without its
newline, is an entry byte for byte, so that other programs can recompute the tree: the
leaf hash is SHA-256 of a zero byte and the line (RFC 6962). See docs/ledger.md.`,
		Example: "  moss ledger export --out ledger.jsonl",
	}
	cmd.Flags().StringVar(&out, "out", "-", "file to write, - for standard output")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := api.Connected()
		if err != nil {
			return err
		}
		var head signedHead
		if err := c.Call(cmd.Context(), http.MethodGet, "/ledger/checkpoint", nil, &head); err != nil {
			return err
		}
		end, err := ledger.OpenHead(head.Checkpoint, head.Verifier)
		if err != nil {
			return err
		}
		to := cmd.OutOrStdout()
		if out != "-" {
			f, err := os.OpenFile(out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return fmt.Errorf("export: %w", err)
			}
			defer f.Close()
			to = f
		}
		header, err := json.Marshal(ledger.ExportHeader{Format: ledger.ExportFormat, Origin: ledger.Origin, Verifier: head.Verifier, Checkpoint: head.Checkpoint})
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(to, "%s\n", header); err != nil {
			return err
		}
		for at := int64(0); at < end.Size; {
			var part struct {
				Lines []string `json:"lines"`
			}
			if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/ledger/lines?from=%d&limit=%d", at, min(1000, end.Size-at)), nil, &part); err != nil {
				return err
			}
			if len(part.Lines) == 0 {
				return api.Negative("the service has only %d of the %d entries that it signed", at, end.Size)
			}
			for _, line := range part.Lines {
				if _, err := fmt.Fprint(to, line); err != nil {
					return err
				}
			}
			at += int64(len(part.Lines))
		}
		if out != "-" {
			fmt.Fprintf(cmd.OutOrStdout(), "Wrote %d entries to %s. Verify it anywhere with 'moss ledger verify --offline %s --key KEY'.\n", end.Size, out, out)
		}
		return nil
	}
	return cmd
}
