package cli

import (
	"slices"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/internal/files"
)

// maxMends is how many times a file is mended before what is left is left.
const maxMends = 10

// mend applies the edits that findings of a file carry, as far as each makes its finding go
// and brings none that nobody can mend. It returns the file as it is then, its place and its
// findings, and those that are gone.
func mend(f *policy.File, in files.Place) (*policy.File, files.Place, []check.Finding, []check.Finding) {
	found := check.File(f, in.Accepted)
	mended := []check.Finding{}
	try := func(some []check.Finding) bool {
		var edits []policyfile.Edit
		for i := range some {
			e := some[i].Edit
			edits = append(edits, policyfile.Edit{At: policy.Place{File: e.File, Line: e.Line, Column: e.Column}, New: e.New})
		}
		next, place, err := in.Edited(edits)
		if err != nil {
			return false
		}
		after := check.File(next, place.Accepted)
		if !better(found, after, some) {
			return false
		}
		f, in, found = next, place, after
		mended = append(mended, some...)
		return true
	}
	for range maxMends {
		var some []check.Finding
		for i := range found {
			if found[i].Edit != nil {
				some = append(some, found[i])
			}
		}
		if len(some) == 0 || !try(some) && !slices.ContainsFunc(some, func(one check.Finding) bool { return try([]check.Finding{one}) }) {
			break
		}
	}
	return f, in, found, mended
}

// better reports whether what was to be mended is gone, and what is new can be mended too.
func better(before, after, mended []check.Finding) bool {
	has := func(list []check.Finding, f *check.Finding) bool {
		return slices.ContainsFunc(list, func(o check.Finding) bool {
			return o.Name == f.Name && o.At.File == f.At.File && o.At.Line == f.At.Line
		})
	}
	for i := range mended {
		if has(after, &mended[i]) {
			return false
		}
	}
	for i := range after {
		if f := &after[i]; f.Level != check.Note && f.Edit == nil && !has(before, f) {
			return false
		}
	}
	return true
}
