package fieldfile

import (
	"fmt"
	"strings"
	"testing"
)

const addressed = `format: 1
field: quay
networks: [front, back]
nodes:
  - name: gull-{1..3}
    addresses: {front: "127.10.0.{1..3}", back: "127.20.0.{11..13}"}   # two cards each
  - {name: tern-1, address: 127.10.0.9, addresses: {back: 127.20.0.9}}
roles:
  wardens: {kit: warden, members: 1}
`

func TestNodesHaveTheAddressesThatTheFileGives(t *testing.T) {
	f, err := Parse("quay.field.yaml", []byte(addressed), nil)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for i := range f.Field.Nodes {
		n := &f.Field.Nodes[i]
		got = append(got, fmt.Sprint(n.Name, " ", f.Field.Given(n), " ", n.Addresses["back"]))
	}
	want := "gull-1 127.10.0.1 127.20.0.11; gull-2 127.10.0.2 127.20.0.12; gull-3 127.10.0.3 127.20.0.13; tern-1 127.10.0.9 127.20.0.9"
	if strings.Join(got, "; ") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, "; "), want)
	}
}

// TestARangeIsDividedWithItsAddresses changes one node of a range: each keeps its address.
func TestARangeIsDividedWithItsAddresses(t *testing.T) {
	f, err := Parse("quay.field.yaml", []byte(addressed), nil)
	if err != nil {
		t.Fatal(err)
	}
	data, err := f.Put(put("true", "nodes", "gull-2", "out"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"  - name: gull-1\n    addresses: {front: \"127.10.0.1\", back: \"127.20.0.11\"}   # two cards each\n",
		"  - name: gull-2\n    addresses: {front: \"127.10.0.2\", back: \"127.20.0.12\"}   # two cards each\n    out: true\n",
		"  - name: gull-3\n    addresses: {front: \"127.10.0.3\", back: \"127.20.0.13\"}   # two cards each\n",
	} {
		if !strings.Contains(string(data), want) {
			t.Errorf("there is no\n%sin\n%s", want, data)
		}
	}
}
