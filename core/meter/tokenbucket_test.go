package meter

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"testing"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// slowBucket is the token bucket as the books write it, in big rationals.
type slowBucket struct {
	rate, size, tokens *big.Rat // bytes per second, bytes, bytes
	last               time.Duration
}

func (b *slowBucket) take(now time.Duration, size int) bool {
	gain := new(big.Rat).Mul(b.rate, big.NewRat(int64(now-b.last), int64(time.Second)))
	b.tokens.Add(b.tokens, gain)
	if b.tokens.Cmp(b.size) > 0 {
		b.tokens.Set(b.size)
	}
	b.last = now
	cost := big.NewRat(int64(size), 1)
	if b.tokens.Cmp(cost) < 0 {
		return false
	}
	b.tokens.Sub(b.tokens, cost)
	return true
}

func TestAgainstBigRationals(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for _, rate := range []unit.Rate{500, 90_500, 900_000, 11_400_000, 999_999_937, unit.MaxRate} {
		burst := unit.Size(1 + r.IntN(20_000))
		fast := NewTokenBucket(rate, burst)
		slow := slowBucket{big.NewRat(int64(rate), 8), big.NewRat(int64(burst), 1), big.NewRat(int64(burst), 1), 0}
		mean := float64(rate.Time(700)) * 0.8 // somewhat more than the rate
		now := time.Duration(0)
		passed := 0
		for n := range 30_000 {
			now += time.Duration(r.ExpFloat64() * mean)
			size := 40 + r.IntN(1460)
			got, want := fast.Take(now, size), slow.take(now, size)
			if got != want {
				t.Fatalf("%s, burst %s, packet %d of %d B at %v: conforms %t, exact arithmetic says %t", rate, burst, n, size, now, got, want)
			}
			if got {
				passed++
			}
		}
		if passed == 0 || passed == 30_000 {
			t.Fatalf("%s: %d of 30000 conform: the test tests nothing", rate, passed)
		}
	}
}

// In any window of length t at most burst + rate × t passes.
func TestNoWindowExceedsTheContract(t *testing.T) {
	const rate, burst = 8_000_000, 5000 // 1 byte a microsecond
	b := NewTokenBucket(rate, burst)
	r := rand.New(rand.NewPCG(8, 8))
	var times []time.Duration
	var total []int // bytes passed before each
	now, sum := time.Duration(0), 0
	for range 5000 {
		now += time.Duration(r.IntN(600)) * time.Microsecond
		if size := 100 + r.IntN(1400); b.Take(now, size) {
			times, total = append(times, now), append(total, sum)
			sum += size
		}
	}
	total = append(total, sum)
	for i := range times {
		for j := i; j < len(times); j++ {
			passed, most := total[j+1]-total[i], burst+int((times[j]-times[i])/time.Microsecond)
			if passed > most {
				t.Fatalf("from %v to %v %d bytes passed; at most %d may", times[i], times[j], passed, most)
			}
		}
	}
}

func TestLongSilenceAndLargestBucket(t *testing.T) {
	b := NewTokenBucket(unit.MaxRate, unit.MaxSize)
	if !b.Take(0, 1<<30-1<<28) || !b.Take(1<<62, 1<<29) {
		t.Error("a full bucket of the largest size refuses what it holds")
	}
	small := NewTokenBucket(500, 100)
	if small.Take(0, 101) || !small.Take(0, 100) || small.Take(time.Second, 63) || !small.Take(time.Second, 62) {
		t.Error("500 bit/s bring 62.5 bytes in a second")
	}
}

func BenchmarkTokenBucket(b *testing.B) {
	tb := NewTokenBucket(11_400_000, 3000)
	b.ReportAllocs()
	now := time.Duration(0)
	for b.Loop() {
		now += 100 * time.Microsecond
		tb.Take(now, 238)
	}
}

func ExampleTokenBucket() {
	b := NewTokenBucket(900*unit.KbitPerSecond, 3*unit.KB)
	fmt.Println(b.Take(0, 1500), b.Take(0, 1500), b.Take(0, 1500))
	fmt.Println(b.Take(13333333*time.Nanosecond, 1500), b.Take(26666667*time.Nanosecond, 3000))
	// Output:
	// true true false
	// false true
}
