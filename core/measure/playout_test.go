package measure

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codec"
)

// An adapting buffer plays what a buffer written from the words of the manual plays, and the score counts what it holds on average.
func TestAdaptingPlayout(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	const least, most = 20 * ms, 90 * ms
	for range 20 {
		f, _ := NewCall(g711(), least, 0, 100*time.Second)
		f.Adapts(most)
		var delays []time.Duration
		mean, deviation, held, leasts, lates := 0.0, 0.0, 0.0, 0.0, 0
		spread := 1 + 40*random.Float64()
		late := make([]bool, 3000)
		for n := range late {
			if n%700 == 0 {
				spread = 1 + 60*random.Float64()
			}
			d := 30*ms + time.Duration(random.ExpFloat64()*spread*float64(ms))
			delays = append(delays, d)
			sent := time.Duration(n) * 20 * ms
			floor := time.Duration(math.MaxInt64)
			for i := range delays {
				if time.Duration(i)*20*ms+delays[i] >= sent+d-10*time.Second {
					floor = min(floor, delays[i])
				}
			}
			if n == 0 {
				mean = float64(d)
			}
			buffer := math.Min(math.Max(mean+4*deviation-float64(floor), float64(least)), float64(most))
			keep := min(0.998002, float64(n)/float64(n+1))
			if float64(d) > mean {
				mean = min(0.75, keep)*mean + (1-min(0.75, keep))*float64(d)
			} else {
				mean = keep*mean + (1-keep)*float64(d)
			}
			deviation = keep*deviation + (1-keep)*math.Abs(mean-float64(d))
			held, leasts = held+buffer, leasts+float64(floor)
			if late[n] = float64(d-floor) > buffer+1; late[n] {
				lates++
			}
			if _, got, _ := f.Delivered(int64(n), sent, d, time.Hour); got != late[n] {
				t.Fatalf("packet %d, %s after the least delay, with a buffer of %.3f ms: late is %v", n, d-floor, buffer/1e6, got)
			}
		}
		runs, in := 0, false
		for _, l := range late {
			if l && !in {
				runs++
			}
			in = l
		}
		loss, burst := float64(lates)/float64(len(late)), 1.0
		if lates > 0 {
			burst = float64(lates) / float64(runs) * (1 - loss)
		}
		want := codec.MOS(codec.R(20*ms+time.Duration((held+leasts)/float64(len(late))), loss, burst, 0, 25.1))
		if math.Abs(f.MOS()-want) > 0.001 {
			t.Errorf("MOS %.4f, want %.4f", f.MOS(), want)
		}
		if lates == 0 || lates == len(late) {
			t.Errorf("%d of %d packets are late", lates, len(late))
		}
	}
}
