package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/files"
)

// asDelivered returns a policy file as its devices would have it, by their profiles, and says where that is less than the file asks.
func (a *app) asDelivered(f *policy.File, in files.Place) (*policy.File, files.Place, error) {
	profiled := 0
	source, err := in.Source, error(nil)
	f, source, err = source.AsDelivered(f, func(node *policy.Node, part language.Value) (language.Value, bool, error) {
		i := slices.IndexFunc(f.Devices, func(d policy.Device) bool { return d.Name == node.Name && d.Profile != "" })
		if i < 0 {
			return part, false, nil
		}
		profiled++
		name := f.Devices[i].Profile
		if beside := filepath.Join(in.In, name); !slices.Contains(profiles(), name) && !filepath.IsAbs(name) {
			if _, err := os.Stat(beside); err == nil {
				name = beside
			}
		}
		cannot, err := readProfile(name)
		if err != nil {
			return part, false, fmt.Errorf("the profile of `%s`: %w", node.Name, err)
		}
		out, less, err := fitted(part, cannot)
		if err != nil {
			return part, false, fmt.Errorf("it cannot be done on `%s`: %w", node.Name, err)
		}
		for _, l := range less {
			fmt.Fprintf(a.err, "imbrel rehearse: at %s: %s\n", node.Name, l)
		}
		return out, len(less) > 0, nil
	})
	if err != nil {
		return nil, in, err
	}
	if profiled == 0 {
		return nil, in, fmt.Errorf("--as-delivered rehearses what devices can do, and no device of the file has a `profile`")
	}
	in.Source = source
	return f, in, nil
}
