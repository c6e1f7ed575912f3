package cli

import (
	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) codepoint(text render.Text) *cobra.Command {
	return &cobra.Command{
		Use:   "codepoint [VALUE…]",
		Short: "Show the names, numbers and fields of a marking, or of all",
		Long: `Codepoint shows a marking in every spelling: the name, the DSCP in decimal, binary
and hex, the whole ToS byte, IP precedence, 802.1Q PCP, MPLS TC, 802.11 user
priority, drop precedence and service class. A bare number that may be a DSCP as
well as a ToS byte is shown under each reading.`,
		Example: `  imbrel codepoint ef 0x2e 101110 tos:0xb8 pcp:5 'af4*'
  imbrel codepoint 40`,
		RunE: func(_ *cobra.Command, args []string) error {
			var asked []render.Asked
			for _, s := range args {
				readings, err := codepoint.Read(s)
				if err != nil {
					return err
				}
				asked = append(asked, render.Asked{Value: s, Readings: readings})
			}
			if len(args) == 0 {
				var all []codepoint.DSCP
				for d := range codepoint.MaxDSCP + 1 {
					if d.Name()[0] > '9' {
						all = append(all, d)
					}
				}
				asked = []render.Asked{{Readings: []codepoint.Reading{{As: "DSCP", Points: all}}}}
			}
			if a.output == "json" {
				return render.JSON(a.out, render.Codepoints(asked))
			}
			text.Codepoints(asked)
			return nil
		},
	}
}
