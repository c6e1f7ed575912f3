package cli

import (
	"fmt"
	"io"
	"net/netip"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/internal/diagram"
	"imbrel.example/imbrel/internal/files"
)

func (a *app) draw() *cobra.Command {
	var from, to string
	c := &cobra.Command{
		Use:   "draw FILE",
		Short: "Draw the network of a file, with its rates and policies",
		Long: `Draw writes a picture of the file's network: each node with its interfaces, their rates,
policies and subnets, and each link with what it carries each way, its delay and its loss.
With --from and --to it draws only the nodes on the way between two addresses, which is
of use in a large network. SVG opens in every browser; DOT is for programs that lay
graphs out.`,
		Example: `  imbrel draw ternrock.yaml >network.svg
  imbrel draw ternrock.yaml -o dot >network.dot
  imbrel draw branches.yaml --from 10.44.8.20 --to 10.44.64.20 >path.svg`,
		Args: between(1, 1, "a policy file"),
		RunE: func(_ *cobra.Command, args []string) error {
			f, _, err := files.ReadPolicy(args[0], a.in, a.includeFrom...)
			if err != nil {
				return err
			}
			if len(f.Network.Nodes) == 0 {
				return fmt.Errorf("%s: there is no network in it; add `nodes` and `links` under `network`", args[0])
			}
			d := diagram.Of(f)
			if from != "" || to != "" {
				on, err := nodesBetween(f, from, to)
				if err != nil {
					return err
				}
				d.Only(func(n *policy.Node) bool { return on[n.Name] })
			}
			text := d.SVG()
			if a.output == dot.name {
				text = d.DOT()
			}
			_, err = io.WriteString(a.out, text)
			return err
		},
	}
	c.Flags().StringVar(&from, "from", "", "draw only the way from this `ADDRESS`")
	c.Flags().StringVar(&to, "to", "", "draw only the way to this `ADDRESS`")
	return c
}

// nodesBetween returns the names of the nodes on the ways between two addresses, in both directions.
func nodesBetween(f *policy.File, from, to string) (map[string]bool, error) {
	table := route.New(f)
	var ends [2]*policy.Interface
	for i, x := range []struct{ flag, text string }{{"from", from}, {"to", to}} {
		addr, err := netip.ParseAddr(x.text)
		if err != nil {
			return nil, fmt.Errorf("--%s %s: this is not an address such as 10.44.8.20; a way has both --from and --to", x.flag, x.text)
		}
		if ends[i] = table.Where(addr.Unmap()); ends[i] == nil {
			return nil, fmt.Errorf("--%s %s: the address is in no subnet of the network", x.flag, x.text)
		}
	}
	on := map[string]bool{ends[0].Node.Name: true, ends[1].Node.Name: true}
	for _, way := range [][2]*policy.Interface{{ends[0], ends[1]}, {ends[1], ends[0]}} {
		hops, err := table.Route(way[0], way[1], route.Key{})
		if err != nil {
			return nil, err
		}
		for _, h := range hops { // with the nodes of tunnels
			on[h.In.Node.Name] = true
		}
		for ahead := []*policy.Node{way[0].Node}; len(ahead) > 0; ahead = ahead[1:] { // and those of all ways of one cost
			for _, out := range table.Nexts(ahead[0], way[1].Node) {
				if next := out.Peer().Node; !on[next.Name] {
					on[next.Name] = true
					ahead = append(ahead, next)
				}
			}
		}
	}
	return on, nil
}
