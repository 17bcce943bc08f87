package place

import (
	"fmt"
	"testing"

	"lanternfield/internal/core/field"
)

// large makes 5,000 nodes in ten zones and fifty roles of a thousand members each, with three dimensions, every second
// role kept to nodes of one kind.
func large() *field.Field {
	f := &field.Field{}
	for i := range 5000 {
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprintf("n-%d", i)), Zone: field.ZoneName(fmt.Sprintf("z-%d", i/500)),
			Size:   field.Size{CPU: float64(8 + i%3*8), Memory: field.Bytes(32+i%2*32) << 30, Disk: 1 << 40},
			Labels: map[string]string{"disk": []string{"nvme", "spinning"}[i%2]}})
	}
	for i := range 50 {
		r := field.Role{Name: field.RoleName(fmt.Sprintf("role-%d", i)), Members: 1000, Spread: field.SpreadZone,
			Room: field.Size{CPU: 0.5, Memory: 1 << 30, Disk: 10 << 30}, Kit: "x",
			Program: &field.Program{Ports: map[string]field.Port{"main": {From: 7000 + i*20, To: 7019 + i*20}}}}
		if i%2 == 0 {
			r.Where = `labels.disk == "nvme" or cpu > 8`
		}
		f.Roles = append(f.Roles, r)
	}
	field.FillDefaults(f)
	return f
}

func BenchmarkFromScratch(b *testing.B) {
	f := large()
	wants := wantsOf(f)
	members := 0
	for _, w := range wants {
		members += len(w.Names)
	}
	for b.Loop() {
		placed, not := NewSite(f, nil).Fill(wants)
		if len(placed) != members || len(not) != 0 {
			b.Fatal(len(placed), len(not))
		}
	}
	b.ReportMetric(float64(members)*float64(b.N)/b.Elapsed().Seconds(), "members/s")
}

func BenchmarkOneRoleOfMany(b *testing.B) {
	f := large()
	placed, _ := NewSite(f, nil).Fill(wantsOf(f))
	var standing []Member
	for _, m := range placed {
		if m.Role != "role-7" {
			standing = append(standing, m)
		}
	}
	w := Want{Role: "role-7"}
	for i := range 1500 {
		w.Names = append(w.Names, w.Role.Member(i+1))
	}
	for b.Loop() {
		NewSite(f, standing).Fill([]Want{w})
	}
}
