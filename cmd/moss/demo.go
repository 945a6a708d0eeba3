package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/demo"
)

func demoCommand() *cobra.Command {
	var tour bool
	var options demo.Options
	cmd := &cobra.Command{
		Use: "demo", Short: "Run the Larkmoor Ferries demonstration on this machine, or take its tour", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			if options.Binary, err = os.Executable(); err != nil {
				return err
			}
			if options.Folder == "" {
				if options.Folder, err = demo.TempFolder(); err != nil {
					return err
				}
				if tour {
					defer func() { err = errors.Join(err, os.RemoveAll(options.Folder)) }()
				}
			}
			if tour && !cmd.Flags().Changed("listen") {
				options.Listen = "127.0.0.1:0"
			}
			options.Out = cmd.OutOrStdout()
			d, err := demo.Start(ctx, options)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, d.Close()) }()
			if tour {
				limited, cancel := context.WithTimeout(ctx, 10*time.Minute)
				defer cancel()
				return d.Tour(limited)
			}
			if err := d.Prepare(ctx); err != nil {
				return err
			}
			fmt.Fprint(cmd.OutOrStdout(), d.Banner())
			<-ctx.Done()
			return nil
		},
	}
	cmd.Flags().BoolVar(&tour, "tour", false, "go through the whole story with the command line, and end")
	cmd.Flags().StringVar(&options.Folder, "folder", "", "folder for everything it writes: a new or empty one, or one that a demonstration made; a temporary one by default")
	cmd.Flags().StringVar(&options.Listen, "listen", "127.0.0.1:7443", "where the service listens")
	return cmd
}
