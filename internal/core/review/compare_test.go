package review

import (
	"reflect"
	"testing"

	"lanternfield/internal/core/field"
)

func TestDraftsAreComparedByName(t *testing.T) {
	before := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1", Zone: "a"}, {Name: "tern-1", Zone: "b"}},
		Roles: []field.Role{{Name: "crews", Members: 4}, {Name: "relays", Members: 2}}}
	after := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "tern-1", Zone: "c"}, {Name: "gull-1", Zone: "a"}, {Name: "skua"}},
		Roles: []field.Role{{Name: "relays", Members: 2, Version: "2"}, {Name: "crews", Members: 6}}}
	got, err := Compare(before, after)
	want := []Difference{{Path: "nodes.skua", After: "there"}, {Path: "nodes.tern-1.zone", Before: "b", After: "c"}, {Path: "roles.crews.members", Before: "4", After: "6"},
		{Path: "roles.relays.version", After: "2"}}
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("got %+v, %v\nwant %+v", got, err, want)
	}
	if same, err := Compare(before, before); err != nil || len(same) > 0 {
		t.Errorf("a draft differs from itself: %+v, %v", same, err)
	}
}
