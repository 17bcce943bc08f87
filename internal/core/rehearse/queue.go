package rehearse

import (
	"cmp"
	"container/heap"
	"time"
)

// Run lets that much time pass.
func (w *World) Run(d time.Duration) {
	end := w.Now.Add(d)
	for len(w.queue) > 0 && !w.queue[0].at.After(end) {
		e := heap.Pop(&w.queue).(event)
		w.Now = e.at
		e.do()
	}
	w.Now = end
}

// Until lets time pass until the condition holds, at most that long. It tells whether it holds.
func (w *World) Until(holds func() bool, most time.Duration) bool {
	end := w.Now.Add(most)
	for !holds() {
		if len(w.queue) == 0 || w.queue[0].at.After(end) {
			w.Now = end
			return false
		}
		e := heap.Pop(&w.queue).(event)
		w.Now = e.at
		e.do()
	}
	return true
}

func (w *World) after(d time.Duration, do func()) {
	if w.host != nil {
		w.host.After(d, do)
		return
	}
	w.seq++
	heap.Push(&w.queue, event{at: w.Now.Add(d), seq: w.seq, do: do})
}

type event struct {
	at  time.Time
	seq int
	do  func()
}

// events is a heap by time; what was queued first comes first.
type events []event

func (q events) Len() int { return len(q) }

func (q events) Less(i, j int) bool {
	return cmp.Or(q[i].at.Compare(q[j].at), cmp.Compare(q[i].seq, q[j].seq)) < 0
}

func (q events) Swap(i, j int) { q[i], q[j] = q[j], q[i] }

func (q *events) Push(x any) { *q = append(*q, x.(event)) }

func (q *events) Pop() any {
	old := *q
	last := old[len(old)-1]
	*q = old[:len(old)-1]
	return last
}
