package policyfile

import (
	"errors"
	"testing"
	"time"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/examples"
)

// One value that cannot be read is one message: what refers to it, or rests on it, says
// nothing. Every value and every name of the examples is broken in turn.
func TestOneMistakeOneMessage(t *testing.T) {
	broken, least := 0, 1500
	with := []string{"?!", "", "-1"}
	if testing.Short() {
		with, least = with[:1], 500
	}
	for _, name := range []string{"ternrock.yaml", "every-key.yaml", "cookbook/branches.yaml", "cookbook/households.yaml", "cookbook/departments.yaml", "coast-mpls.yaml"} {
		_, in, err := ReadOpened(examples.FS.Open, name, time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		doc := *in.doc
		var each func(v *language.Value)
		each = func(v *language.Value) {
			for i := range v.Items {
				each(&v.Items[i])
			}
			if v.Kind != language.Scalar {
				return
			}
			was := v.Text
			defer func() { v.Text = was }()
			for _, v.Text = range with {
				_, err := language.Read(doc, time.LoadLocation)
				var problems policy.Problems
				if !errors.As(err, &problems) {
					continue // what may be anything
				}
				broken++
				if len(problems) > 1 {
					t.Errorf("%s with %q in place of %q:\n%v", v.At, v.Text, was, problems)
				}
			}
		}
		each(&doc)
	}
	t.Logf("%d values broken", broken)
	if broken < least {
		t.Errorf("the test tests little")
	}
}
