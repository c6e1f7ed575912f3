package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/language"
)

func (a *app) schema() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the policy file, for editors",
		Long: `Schema prints the JSON Schema of the policy language. It comes from the description
that the reader follows, so an editor that uses it and Imbrel agree. What spans
several keys (names that must exist, promises that must fit) only Imbrel checks.`,
		Example: `  imbrel schema >imbrel.schema.json
  imbrel schema | less`,
		Args: cobra.NoArgs,
		RunE: func(_ *cobra.Command, _ []string) error {
			e := json.NewEncoder(a.out)
			e.SetEscapeHTML(false)
			e.SetIndent("", "  ")
			return e.Encode(language.Schema())
		},
	}
}
