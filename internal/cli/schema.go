package cli

import (
	"encoding/json"
	"io"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/yang"
)

func (a *app) schema() *cobra.Command {
	var asYANG bool
	c := &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the policy file, for editors",
		Long: `Schema prints the JSON Schema of the policy language. It comes from the description
that the reader follows, so an editor that uses it and Imbrel agree. What spans
several keys (names that must exist, promises that must fit) only Imbrel checks.
With --yang it prints the YANG module that a managed device has.`,
		Example: `  imbrel schema >imbrel.schema.json
  imbrel schema --yang >imbrel-policy.yang`,
		Args: cobra.NoArgs,
		RunE: func(_ *cobra.Command, _ []string) error {
			if asYANG {
				_, err := io.WriteString(a.out, yang.Text())
				return err
			}
			e := json.NewEncoder(a.out)
			e.SetEscapeHTML(false)
			e.SetIndent("", "  ")
			return e.Encode(language.Schema())
		},
	}
	c.Flags().BoolVar(&asYANG, "yang", false, "print the YANG module of a managed device")
	return c
}
