package unit

import (
	"math"
	"testing"
)

func TestCubeRoot(t *testing.T) {
	for _, v := range []float64{-1, 0, 1e-30, 1e-9, 0.5, 1, 2, 27, 1e6, 1e15} {
		want := max(0, math.Cbrt(v))
		if got := CubeRoot(v); math.Abs(got-want) > 1e-9*want {
			t.Errorf("the cube root of %g is %g, not %g", v, got, want)
		}
	}
}
