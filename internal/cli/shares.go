package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) shares(text render.Text) *cobra.Command {
	var busy, offer, at, shown []string
	voice := "g711"
	c := &cobra.Command{
		Use:   "shares FILE",
		Short: "Show what each class gets: alone, all busy, some busy",
		Long: `Shares calculates, for each attached policy, the rate that each class gets when it is
alone and the rate that it is promised when all classes are busy. With --busy or
--offer it calculates the rates when only some classes send. It also shows how many
calls fit and how long a packet can wait.`,
		Example: `  imbrel shares ternrock.yaml
  imbrel shares ternrock.yaml --busy voice,charts
  imbrel shares ternrock.yaml --offer voice=600kbit/s,rest=50Mbit/s`,
		Args: between(1, 1, "a policy file"),
		RunE: func(_ *cobra.Command, args []string) error {
			wishes, err := wishesOf(busy, offer)
			if err != nil {
				return err
			}
			f, _, err := files.ReadPolicy(args[0], a.in, a.includeFrom...)
			if err != nil {
				return err
			}
			if len(f.Attach) == 0 {
				return fmt.Errorf("%s: no policy is attached, so there is nothing to divide; add entries under `attach`", args[0])
			}
			calls, ok := codec.ByName(voice)
			if !ok {
				return fmt.Errorf("--codec %s: %sthe codecs are %s", voice, policy.DidYouMean(voice, codec.Names()), strings.Join(codec.Names(), ", "))
			}
			r, err := allocation.Compute(f, wishes, calls, check.Packets(f))
			if err != nil {
				return err
			}
			if err := only(r, at, shown); err != nil {
				return err
			}
			if a.output == "json" {
				return render.JSON(a.out, r)
			}
			text.Shares(r, wishes)
			return nil
		},
	}
	c.Flags().StringSliceVar(&at, "at", nil, "show only these `PLACES`, such as ternrock/radio out, or without the direction")
	c.Flags().StringSliceVar(&shown, "class", nil, "show only these `CLASSES`")
	c.Flags().StringSliceVar(&busy, "busy", nil, "only these `CLASSES` send, as much as they can (nested: sales/voice; rest is that of the top level)")
	c.Flags().StringSliceVar(&offer, "offer", nil, "these classes send at a rate, `CLASS=RATE`; all others send nothing, unless --busy names them")
	c.Flags().StringVar(&voice, "codec", voice, "count calls of the `CODEC`: "+strings.Join(codec.Names(), ", "))
	return c
}

// only leaves in a result what was asked for.
func only(r *allocation.Result, at, classes []string) error {
	trim(at)
	trim(classes)
	var places, names []string
	matched := make(map[string]bool)
	kept := r.Interfaces[:0:0]
	for _, f := range r.Interfaces {
		iface := f.Node + "/" + f.Interface
		place := iface + " " + f.Direction
		if places = append(places, place); len(at) > 0 && !slices.Contains(at, iface) && !slices.Contains(at, place) {
			continue
		}
		matched[iface], matched[place] = true, true
		all := f.Classes
		f.Classes = nil
		for _, c := range all {
			last := c.Class[strings.LastIndexByte(c.Class, '/')+1:]
			names = append(names, c.Class)
			if len(classes) == 0 || slices.Contains(classes, c.Class) || slices.Contains(classes, last) {
				matched[c.Class], matched[last] = true, true
				f.Classes = append(f.Classes, c)
			}
		}
		if len(f.Classes) > 0 {
			kept = append(kept, f)
		}
	}
	for _, a := range at {
		if !matched[a] {
			return fmt.Errorf("--at %s: no policy is attached there; %sthere are: %s", a, policy.DidYouMean(a, places), strings.Join(places[:min(len(places), 40)], ", "))
		}
	}
	slices.Sort(names)
	names = slices.Compact(names)
	for _, c := range classes {
		if !matched[c] {
			return fmt.Errorf("--class %s: no policy there has such a class; %sthere are: %s", c, policy.DidYouMean(c, names), strings.Join(names[:min(len(names), 40)], ", "))
		}
	}
	r.Interfaces = kept
	return nil
}

func wishesOf(busy, offer []string) ([]allocation.Wish, error) {
	var wishes []allocation.Wish
	for _, b := range busy {
		wishes = append(wishes, allocation.Wish{Class: strings.TrimSpace(b), All: true})
	}
	for _, o := range offer {
		class, rate, ok := strings.Cut(o, "=")
		if !ok {
			return nil, fmt.Errorf("--offer %s: write CLASS=RATE, as in voice=2Mbit/s", o)
		}
		var r unit.Rate
		if rate = strings.TrimSpace(rate); rate != "0" && rate != "0bit/s" {
			var err error
			if r, err = unit.ParseRate(rate); err != nil {
				return nil, fmt.Errorf("--offer %s: %w", o, err)
			}
		}
		wishes = append(wishes, allocation.Wish{Class: strings.TrimSpace(class), Rate: r})
	}
	return wishes, nil
}
