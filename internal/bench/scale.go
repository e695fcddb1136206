package main

import (
	"container/heap"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"
)

// What a runner costs a server of others, in its processors' time, as measured on 30 tables
// of which a test touches three (docs/scale.md says how).
const (
	costOfRun   = 160 * time.Millisecond // its copy is made and dropped, its sessions begin and end
	costOfTest  = 14 * time.Millisecond  // what a test itself has the server do
	costOfReset = 12 * time.Millisecond
	thinkTime   = 250 * time.Millisecond // of a test, on its runner's own machine
	testsOfRun  = 200
	ownPerRun   = 4 // connections: two of Hemzo's own, two of its tests
)

// job is one runner's next request, or the end of one.
type job struct {
	at     time.Duration
	runner int
}

type jobs []job

func (j jobs) Len() int           { return len(j) }
func (j jobs) Less(a, b int) bool { return j[a].at < j[b].at }
func (j jobs) Swap(a, b int)      { j[a], j[b] = j[b], j[a] }
func (j *jobs) Push(x any)        { *j = append(*j, x.(job)) }
func (j *jobs) Pop() any {
	last := (*j)[len(*j)-1]
	*j = (*j)[:len(*j)-1]
	return last
}

// simulate has so many runners share a server of so many processors, each of which does one
// request after another, in the order in which they come. It returns the tests done in a
// second, and how long the server took for a test and its reset, in the middle and at worst
// of a hundred.
func simulate(runners, processors int) (tests float64, middle, late time.Duration) {
	random := rand.New(rand.NewPCG(1, uint64(runners*1000+processors)))
	vary := func(d time.Duration) time.Duration { return time.Duration(random.ExpFloat64() * float64(d)) }
	free := make([]time.Duration, processors) // when each has done what it was given
	var coming jobs
	left := make([]int, runners)
	for i := range runners {
		left[i] = testsOfRun
		heap.Push(&coming, job{vary(2 * time.Second), i})
	}
	var took []time.Duration
	var end time.Duration
	for coming.Len() > 0 {
		j := heap.Pop(&coming).(job)
		work := vary(costOfTest + costOfReset)
		if left[j.runner] == testsOfRun {
			work += costOfRun
		}
		first := 0
		for i := range free {
			if free[i] < free[first] {
				first = i
			}
		}
		free[first] = max(free[first], j.at) + work
		took = append(took, free[first]-j.at)
		end = max(end, free[first])
		if left[j.runner]--; left[j.runner] > 0 {
			heap.Push(&coming, job{free[first] + vary(thinkTime), j.runner})
		}
	}
	slices.Sort(took)
	return float64(len(took)) / end.Seconds(), took[len(took)/2], took[len(took)*99/100]
}

// scale prints what servers of several sizes carry, by simulation.
func (b bench) scale() error {
	fmt.Println("processors  runners  tests/s  a test and its reset: middle, 99 of 100  connections wanted")
	for _, processors := range []int{2, 4, 16, 64} {
		for _, runners := range []int{1, 10, 25, 50, 100, 250, 1000} {
			tests, middle, late := simulate(runners, processors)
			fmt.Printf("%10d  %7d  %7.0f  %9.0f ms %9.0f ms  %16d\n", processors, runners, tests,
				float64(middle)/1e6, float64(late)/1e6, runners*ownPerRun*10/9)
		}
	}
	return nil
}
