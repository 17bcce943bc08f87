package field

// Late is what becomes of a rollout when a member of the role takes longer than it may, from its order until it is lit.
type Late struct {
	After Duration `json:"after"`
	Then  Then     `json:"then,omitempty"` // Wait when empty
}

// Then is what is done about a member that is late.
type Then string

// What can be done.
const (
	Wait     Then = "wait" // nothing but to say so
	StopHere Then = "stop" // the rollout stops half-way
	GoBack   Then = "back" // the draft that was deployed before is deployed again
)
