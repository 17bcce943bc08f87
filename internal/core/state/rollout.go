package state

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"time"

	"lanternfield/internal/core/field"
)

// Rollout is the carrying out of a draft, of a restart that a changed configuration asks for, or of a retire. There is one at a time; those
// before it are in Rollouts.
type Rollout struct {
	Number int       `json:",omitzero"` // counts the field's rollouts, from 1
	What   string    `json:",omitzero"` // deploy, restart or retire
	By     string    `json:",omitzero"` // who asked for it
	Began  time.Time `json:",omitzero"`
	Ended  time.Time `json:",omitzero"` // zero while it goes on
	Target string    `json:",omitzero"` // the draft that it carries out, by its digest; see Digest
	From   string    `json:",omitzero"` // the draft that was deployed before

	Back bool `json:",omitzero"` // the field itself went back, since a member was late

	Moved int `json:",omitzero"` // members that were given an order for it

	Paused  bool    `json:",omitzero"` // nothing new is begun; what has begun goes on
	Failed  string  `json:",omitzero"` // why it stopped half-way
	Outcome Outcome `json:",omitzero"`
}

// Outcome is what became of a rollout.
type Outcome string

// The outcomes of a rollout. While it goes on it has none.
const (
	Completed Outcome = "completed"
	Failing   Outcome = "stopped half-way"
	Replaced  Outcome = "replaced by the next"
)

// Held tells whether the rollout is paused.
func (r Rollout) Held() bool { return r.Paused }

// Active tells whether the rollout goes on.
func (r Rollout) Active() bool { return !r.Began.IsZero() && r.Ended.IsZero() }

// Task is the stopping, starting or restarting of members that a person asked for. It goes on beside a rollout, and beside other tasks.
type Task struct {
	Number  int                `json:",omitzero"`
	What    string             `json:",omitzero"` // stop, start or restart
	By      string             `json:",omitzero"`
	Members []field.MemberName `json:",omitzero"`
	Began   time.Time          `json:",omitzero"`
	Ended   time.Time          `json:",omitzero"` // zero while it goes on
}

// Active tells whether the task goes on.
func (t Task) Active() bool { return t.Ended.IsZero() }

// UnderWay tells whether a rollout or a task goes on.
func (s *State) UnderWay() bool {
	return s.Rollout.Active() || slices.ContainsFunc(s.Tasks, Task.Active)
}

// What is remembered of rollouts and tasks that have ended; the log has all of them.
const (
	mostRollouts = 100
	mostTasks    = 8
)

// Comparable finds the newest rollout before the present one that it can be compared with: of the same kind, with as many members to move; nil where
// there is none.
func (s *State) Comparable() *Rollout {
	for i := len(s.Rollouts) - 1; i >= 0; i-- {
		if x := &s.Rollouts[i]; x.What == s.Rollout.What && x.Moved == s.Rollout.Moved && x.Outcome == Completed {
			return x
		}
	}
	return nil
}

// beginRollout makes a rollout the newest one.
func (s *State) beginRollout(next Rollout) {
	if before := s.Rollout; before.Number > 0 {
		if before.Active() {
			before.Ended, before.Outcome = next.Began, Replaced
		}
		s.Rollouts = append(slices.Clone(s.Rollouts), before)
		s.Rollouts = s.Rollouts[max(0, len(s.Rollouts)-mostRollouts):]
	}
	next.Number = s.Rollout.Number + 1
	s.Rollout = next
}

// beginTask notes what a person asks for of some members.
func (s *State) beginTask(what, by string, members []field.MemberName, at time.Time) {
	s.TaskCount++
	s.Tasks = append(slices.Clone(s.Tasks), Task{Number: s.TaskCount, What: what, By: by, Members: members, Began: at})
	for i := 0; len(s.Tasks) > mostTasks && i < len(s.Tasks); {
		if s.Tasks[i].Active() {
			i++
			continue
		}
		s.Tasks = slices.Delete(s.Tasks, i, i+1)
	}
}

// endTasks ends all tasks: what they were about goes.
func (s *State) endTasks(at time.Time) {
	s.Tasks = slices.Clone(s.Tasks)
	for i := range s.Tasks {
		if t := &s.Tasks[i]; t.Active() {
			t.Ended = notBefore(at, t.Began)
		}
	}
}

// notBefore is when something ended: not before it began, although a clock was set back meanwhile.
func notBefore(at, began time.Time) time.Time {
	if at.Before(began) {
		return began
	}
	return at
}

// endTask ends a task; of a log of an older version, where tasks have no numbers, the newest of its kind.
func (s *State) endTask(number int, what string, at time.Time) (ended bool) {
	tasks := slices.Clone(s.Tasks)
	for i := len(tasks) - 1; i >= 0; i-- {
		if t := &tasks[i]; t.Active() && (t.Number == number || number == 0 && t.What == what) {
			t.Ended, s.Tasks = notBefore(at, t.Began), tasks
			for _, name := range t.Members {
				if m := s.Members[name]; m != nil {
					m.Asked = false
				}
			}
			return true
		}
	}
	return false
}

// Digest names a draft by its content.
func Digest(f *field.Field) string {
	if f == nil {
		return ""
	}
	data, err := json.Marshal(f)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:12])
}
