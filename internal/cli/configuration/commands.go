package configuration

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// Command is for what a team decided, as text.
func Command() *cobra.Command {
	return output.Group("config", "What was decided, as text: written out, and compared", exportCommand(), diffCommand())
}

func exportCommand() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use: "export", Short: "Write rules, windows, policies, orders, requirements and recipients as YAML", Args: cobra.NoArgs,
		Long: "Writes what was decided, always in the same order, without secrets and without what the service works out by itself,\nso that it can be kept under version control and reviewed there. 'moss config diff' tells what was changed since.",
	}
	cmd.Flags().StringVar(&file, "file", "", "file to write; standard output by default")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, _ []string) error {
		d, err := read(cmd, c)
		if err != nil {
			return err
		}
		raw, err := write(d)
		if err != nil {
			return err
		}
		if file == "" {
			_, err := cmd.OutOrStdout().Write(raw)
			return err
		}
		return os.WriteFile(file, raw, 0o600)
	})
	return cmd
}

func diffCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "diff FILE", Short: "Tell what the service has otherwise than a file; ends with 3 when something differs", Args: cobra.ExactArgs(1),
		Long: "Compares what the service has now with a file that 'moss config export' wrote, or that somebody changed since. Parts that\nthe file does not name are not compared. Nothing is changed. - reads standard input.",
	}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		raw, err := content(cmd, args[0])
		if err != nil {
			return err
		}
		file, err := parse(raw)
		if err != nil {
			return api.Exit(api.ExitUsage, fmt.Errorf("%s: %w", args[0], err))
		}
		service, err := read(cmd, c)
		if err != nil {
			return err
		}
		list := compare(service, file)
		rows := []output.Row{}
		for _, d := range list {
			rows = append(rows, output.Row{"part": d.part, "name": d.name, "what": d.what, "field": d.field, "service": d.service, "file": d.file})
		}
		if len(rows) == 0 && format == "table" {
			fmt.Fprintln(cmd.OutOrStdout(), "The service has what the file says.")
			return nil
		}
		columns := []output.Column{{"PART", "part"}, {"NAME", "name"}, {"WHAT", "what"}, {"FIELD", "field"}, {"SERVICE", "service"}, {"FILE", "file"}}
		if err := output.Write(cmd.OutOrStdout(), format, columns, rows, rows); err != nil || len(rows) == 0 {
			return err
		}
		return api.Negative("the service has %d things otherwise than the file", len(rows))
	})
	return cmd
}

// mostBytes of a file are read.
const mostBytes = 8 << 20

func content(cmd *cobra.Command, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(cmd.InOrStdin(), mostBytes))
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, mostBytes))
}
