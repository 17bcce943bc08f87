package footprint

import (
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
)

func TestWhatMembersTakeIsAddedUp(t *testing.T) {
	f := &field.Field{Nodes: []field.Node{{Name: "a", Price: 0.25}, {Name: "b", Price: 0.5}, {Name: "c", Price: 4}}, Roles: []field.Role{
		{Name: "store", Room: field.Size{CPU: 0.5, Memory: 1 << 30}, Ceiling: field.Size{CPU: 2, Memory: 2 << 30}, Data: &field.Data{Size: 10 << 30}, Licensed: "Barnacle"},
		{Name: "crews", Room: field.Size{CPU: 0.25}}}}
	at := func(role field.RoleName, i int, node field.NodeName) place.Member {
		return place.Member{Name: role.Member(i), Role: role, Node: node}
	}
	p := Of(f, []place.Member{at("store", 1, "a"), at("store", 2, "b"), at("crews", 1, "b"), at("gone", 1, "b")})
	want := "4 on 2 nodes · cpu 1.25 cores, at most 4.25 cores · memory 2 GiB, at most 4 GiB · disk 20 GiB · Barnacle 1 licensed cores, at most 4 licensed cores · 0.75 an hour"
	if p.String() != want {
		t.Errorf("got %s\nwant %s", p, want)
	}
	if got := Of(f, nil).String(); got != "0 on 0 nodes" {
		t.Errorf("got %s", got)
	}
}
