package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
)

// question is what the field waits for a person to decide, as it is looked at.
type question struct {
	snapshot.Question
	chosen int
}

// answer opens the first question of the field. What is asked may be answered by another screen meanwhile; then this one closes.
func (a *app) answer() {
	if a.inPast() {
		return
	}
	if len(a.snap.Questions) == 0 {
		a.say(false, "Nothing waits for an answer.")
		return
	}
	a.question, a.mode, a.scroll = &question{Question: a.snap.Questions[0]}, inQuestion, 0
}

// stillAsked closes a question that has been answered, and keeps one that goes on as it is asked now.
func (a *app) stillAsked() {
	if a.mode != inQuestion {
		return
	}
	for _, q := range a.snap.Questions {
		if q.Role == a.question.Role {
			a.question.Question = q
			a.question.chosen = min(a.question.chosen, len(q.Answers)-1)
			return
		}
	}
	a.mode = walking
	a.say(false, fmt.Sprintf("What %s asked has been answered.", a.question.Role))
}

func (a *app) giveAnswer() tea.Cmd {
	q := a.question
	c := q.Answers[q.chosen]
	r := control.Request{What: "start", Names: q.Names(c)}
	for _, m := range c.Without {
		r.Without = append(r.Without, string(m))
	}
	a.mode = walking
	a.say(false, "Answered: "+c.Word+".")
	return a.order(r)
}

// inQuestion has a question of the field over the view, with its answers.
var inQuestion = &layer{name: "question"}

func init() {
	*inQuestion = layer{name: "question", over: always,
		press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd {
			switch n := len(a.question.Answers); {
			case is(a.keys.Up):
				a.question.chosen = (a.question.chosen + n - 1) % n
			case is(a.keys.Down):
				a.question.chosen = (a.question.chosen + 1) % n
			case is(a.keys.Inspect):
				return a.giveAnswer()
			default:
				return a.pressOver(is)
			}
			return nil
		},
		keys: func(a *app) []hint {
			return []hint{{a.arrows().upDown, "choose"}, {a.keys.Inspect.Help().Key, "give this answer"}, hintOf(a.keys.Close, "back")}
		},
		draw: func(a *app, g *grid.Grid, _ frame) {
			var answers []panel.Answer
			for _, c := range a.question.Answers {
				answers = append(answers, panel.Answer{Word: c.Word, Costs: c.Costs})
			}
			a.lines, a.shown = panel.Question(g, a.look, a.question.Text, a.question.Why, answers, a.question.chosen, "enter gives the answer     esc goes back, it goes on waiting")
		}}
}
