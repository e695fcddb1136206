package compare

import (
	"bytes"
	"image/png"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
)

// measured is a result whose ways took so many milliseconds after a few rows; 0 for one that
// cannot.
func measured(took map[string]float64) *Result {
	r := &Result{Works: []Work{{nothing, "SELECT 1"}, {few, "DELETE"}}}
	for _, name := range []string{Truncation, Rollback, Snapshot, Fresh, Spare, ByHand} {
		ms, ok := took[name]
		if !ok {
			continue
		}
		c := Cost{Work: few, Median: engine.Milliseconds(ms * float64(time.Millisecond))}
		c.Low, c.High = c.Median, c.Median
		if ms == 0 {
			c = Cost{Work: few, Unable: "it cannot"}
		}
		r.Ways = append(r.Ways, Way{Name: name, Costs: []Cost{{Work: nothing, Unable: "left out"}, c}})
	}
	r.judge()
	return r
}

// TestJudge: truncation unless another way is worth its conditions, and never what puts
// nothing back.
func TestJudge(t *testing.T) {
	for _, c := range []struct {
		took map[string]float64
		use  string
	}{
		{map[string]float64{Truncation: 0.6, Rollback: 0.1, ByHand: 0.01}, Truncation},
		{map[string]float64{Truncation: 6, Rollback: 0.2, Spare: 3, ByHand: 0.01}, Rollback},
		{map[string]float64{Truncation: 6, Rollback: 5.5, Spare: 3}, Spare},
		{map[string]float64{Truncation: 6, Rollback: 0, Spare: 5, Fresh: 90}, Truncation},
		{map[string]float64{Truncation: 0, Rollback: 0, Snapshot: 90, Fresh: 100}, Snapshot},
		{map[string]float64{Truncation: 200, Snapshot: 90, Fresh: 40}, Fresh},
	} {
		r := measured(c.took)
		assert.Equal(t, c.use, r.Use, "%v", c.took)
		assert.Equal(t, few, r.On)
		assert.NotEmpty(t, r.Why)
	}
	suite := measured(map[string]float64{Truncation: 6}).Ways[0].Suite(few, 200)
	assert.Equal(t, engine.Milliseconds(1200*time.Millisecond), suite)
}

// TestDraw: a chart has every way, kind of work and figure in it, and its size.
func TestDraw(t *testing.T) {
	r := measured(map[string]float64{Truncation: 6, Rollback: 0.25, Fresh: 0})
	var drawing, picture bytes.Buffer
	require.NoError(t, r.Draw(&drawing, ".svg", "apiary"))
	for _, text := range []string{">apiary<", ">a few rows<", ">truncation<", ">6.0 ms<", ">0.25 ms<", ">cannot<"} {
		assert.Contains(t, drawing.String(), text)
	}
	require.NoError(t, r.Draw(&picture, ".png", "apiary"))
	decoded, err := png.Decode(&picture)
	require.NoError(t, err)
	assert.Equal(t, [2]int{chartWidth, chartHeight}, [2]int{decoded.Bounds().Dx(), decoded.Bounds().Dy()})
	assert.Error(t, r.Draw(&picture, ".gif", ""))
	for _, high := range []float64{0.3, 1, 4.9, 250, 1e4} {
		assert.LessOrEqual(t, len(ticks(0, high)), 7, "%v", high)
		assert.GreaterOrEqual(t, len(ticks(0, high)), 3, "%v", high)
	}
}
