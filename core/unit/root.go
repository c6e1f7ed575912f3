package unit

// CubeRoot returns the cube root of a number, 0 of one below zero, with the same bits on
// every machine: products are rounded before they are added, where the usual library
// function may not do so.
func CubeRoot(v float64) float64 {
	if v <= 0 {
		return 0
	}
	x := max(v, 1)
	for range 400 {
		next := float64(float64(2*x)+float64(v/float64(x*x))) / 3
		if next >= x {
			break
		}
		x = next
	}
	return x
}
