package main

import (
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/service"
)

func serveCommand() *cobra.Command {
	var config service.Config
	var passphraseFile, logFormat, logLevel, readyFile string
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		Long: `Runs the service: API, console and workers. The first start makes the database, the
master key file (readable by you only) and a one-time set-up code, which it prints.
On an address that is not loopback it needs a TLS certificate.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var level slog.Level
			if err := level.UnmarshalText([]byte(logLevel)); err != nil {
				return fmt.Errorf("log level %q: debug, info, warn or error", logLevel)
			}
			options := &slog.HandlerOptions{Level: level}
			switch logFormat {
			case "json":
				config.Log = slog.New(slog.NewJSONHandler(os.Stderr, options))
			case "text":
				config.Log = slog.New(slog.NewTextHandler(os.Stderr, options))
			default:
				return fmt.Errorf("log format %q: text or json", logFormat)
			}
			if passphraseFile != "" {
				raw, err := os.ReadFile(passphraseFile)
				if err != nil {
					return fmt.Errorf("passphrase: %w", err)
				}
				config.Passphrase = secret.New(strings.TrimRight(string(raw), "\r\n"))
				if config.Passphrase.Empty() {
					return fmt.Errorf("the passphrase file %s is empty: the master key would not be protected", passphraseFile)
				}
			}
			config.Ready = func(url, code string) {
				fmt.Fprintf(cmd.OutOrStdout(), "Moss Ledger serves %s\n", url)
				if code != "" {
					fmt.Fprintf(cmd.OutOrStdout(), "Set-up code (once): %s\nSet it up in a browser, or with: moss login --server %s --set-up\n", code, url)
				}
				if readyFile != "" {
					if err := os.WriteFile(readyFile, []byte(url+"\n"+code+"\n"), 0o600); err != nil {
						config.Log.Error("the ready file cannot be written", "error", err)
					}
				}
			}
			if err := guardMemory(); err != nil {
				config.Log.Warn("memory of this process may end up in a core dump", "error", err)
			}
			config.Kill = func() { _ = syscall.Kill(os.Getpid(), syscall.SIGKILL); select {} }
			ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			return service.Run(ctx, config)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&config.Data, "data", "moss-data", "folder of the database")
	flags.StringVar(&config.KeyFile, "key-file", "", "master key file; master.key in the data folder by default")
	flags.StringVar(&passphraseFile, "passphrase-file", "", "file with the passphrase that protects the master key")
	flags.StringVar(&config.Listen, "listen", "127.0.0.1:7443", "host:port")
	flags.StringVar(&config.CertFile, "tls-cert", "", "certificate (PEM)")
	flags.StringVar(&config.KeyPEM, "tls-key", "", "private key of the certificate (PEM)")
	flags.DurationVar(&config.SurveyEvery, "survey-every", 24*time.Hour, "survey all systems so often; 0 never")
	flags.DurationVar(&config.VerifyEvery, "verify-every", time.Hour, "verify everything in custody so often; 0 never")
	flags.IntVar(&config.Parallel, "parallel", 0, "systems visited at the same time; 0 for four a processor, at least eight")
	flags.StringVar(&logFormat, "log-format", "text", "text or json")
	flags.StringVar(&logLevel, "log-level", "info", "debug, info, warn or error")
	flags.StringVar(&readyFile, "ready-file", "", "write address and set-up code there once it serves")
	flags.BoolVar(&config.AcceptRestored, "accept-restored", false, "go on with an older database that was put back on purpose; the ledger says so")
	flags.IntVar(&config.Drill, "drill-kill-after", 0, "recovery drill: kill this process after so many journal records")
	_ = flags.MarkHidden("drill-kill-after")
	_ = flags.MarkHidden("ready-file")
	return cmd
}

func openAPICommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the description of the API (OpenAPI 3.1)", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		raw, err := service.OpenAPI()
		if err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), string(raw))
		return nil
	}}
}
