package output

import (
	"fmt"

	"github.com/spf13/cobra"
)

// Details prints one object as lines of name and value.
func Details(cmd *cobra.Command, v Row, fields []Column) error {
	format, err := FormatOf(cmd)
	if err != nil {
		return err
	}
	if format != "table" {
		return Write(cmd.OutOrStdout(), format, fields, []Row{v}, v)
	}
	for _, f := range fields {
		if text := Safe(Show(FieldOf(v, f.Field()))); text != "" {
			fmt.Fprintf(cmd.OutOrStdout(), "%-18s %s\n", f.Head(), text)
		}
	}
	return nil
}
