package identity

import (
	"crypto/x509"
	"encoding/json"
	"errors"
	"path/filepath"
	"testing"
	"time"
)

// enrolledBy makes an agent's identity.
func enrolledBy(t *testing.T, a *Authority, node string) *Agent {
	t.Helper()
	var agent Agent
	request, err := agent.Request()
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := a.Sign(request, node)
	counting := a.Counting()
	if err = errors.Join(err, agent.take(certificate, &counting)); err != nil {
		t.Fatal(err)
	}
	return &agent
}

func made(t *testing.T) (*Authority, []byte) {
	t.Helper()
	a, text, err := New()
	if err != nil {
		t.Fatal(err)
	}
	return a, text
}

func speaks(t *testing.T, a *Authority) *Controller {
	t.Helper()
	c, err := a.Controller()
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// TestWhoseWordCountsIsSaidByAnAuthorityAlone tells an agent things that nobody may tell it.
func TestWhoseWordCountsIsSaidByAnAuthorityAlone(t *testing.T) {
	authority, _ := made(t)
	authority.Refused().Set(10, time.Time{}, nil)
	agent := enrolledBy(t, authority, "gull-1")
	stranger, _ := made(t)
	stranger.Refused().Set(20, time.Time{}, nil)
	changed := func(change func(*vouched)) []byte {
		authority.Refused().Set(20, time.Time{}, nil)
		defer authority.Refused().Set(10, time.Time{}, nil)
		signed, _, err := authority.Vouched()
		if err != nil {
			t.Fatal(err)
		}
		var v vouched
		if err := json.Unmarshal(signed, &v); err != nil {
			t.Fatal(err)
		}
		change(&v)
		if signed, err = json.Marshal(v); err != nil {
			t.Fatal(err)
		}
		return signed
	}
	foreign, _, err := stranger.Vouched()
	if err != nil {
		t.Fatal(err)
	}
	none, err := json.Marshal(Counting{Number: 30})
	if err != nil {
		t.Fatal(err)
	}
	for what, signed := range map[string][]byte{
		"by another field's authority": foreign,
		"with another's authorities":   changed(func(v *vouched) { var f vouched; _ = json.Unmarshal(foreign, &f); v.Counting = f.Counting }),
		"without a signature":          changed(func(v *vouched) { v.Signature = nil }),
		"no authority":                 changed(func(v *vouched) { v.Counting = none }),
		"rubbish":                      []byte("{"),
		"nothing":                      nil,
	} {
		if err := agent.Follow(signed); err == nil || agent.Told() != 10 {
			t.Errorf("%s: %v, and it was told %d", what, err, agent.Told())
		}
	}
	if err := agent.Follow(changed(func(*vouched) {})); err != nil || agent.Told() != 20 {
		t.Errorf("what is right was not taken: %v", err)
	}
	before, _, err := authority.Vouched()
	if err != nil {
		t.Fatal(err)
	}
	if err := agent.Follow(before); !errors.Is(err, ErrOlder) || agent.Told() != 20 { // as somebody could repeat who has seen it
		t.Errorf("what was said earlier is taken again: %v", err)
	}
}

// TestWhatIsRevokedInTheSecondInWhichItWasIssuedIsRefused has an agent and a controller be given another certificate within that second.
func TestWhatIsRevokedInTheSecondInWhichItWasIssuedIsRefused(t *testing.T) {
	authority, _ := made(t)
	now := time.Now().Truncate(time.Second).Add(300 * time.Millisecond)
	authority.now = func() time.Time { return now }
	agent, old := enrolledBy(t, authority, "gull-1"), speaks(t, authority)
	untold, err := old.certificate()
	if err != nil {
		t.Fatal(err)
	}
	if ours, its := meet(t, old, agent, "gull-1"); ours != nil || its != nil {
		t.Fatal(ours, its)
	}
	since := now.Truncate(time.Second).Add(time.Second)
	authority.Refused().Set(5, since, map[string]time.Time{"gull-1": since})
	var refused *RefusedError
	if ours, _ := meet(t, speaks(t, authority), agent, "gull-1"); !errors.As(ours, &refused) || !Untrusted(ours) {
		t.Errorf("a revoked agent is believed: %v", ours)
	}
	next := enrolledBy(t, authority, "gull-1")
	if ours, its := meet(t, old, next, "gull-1"); ours != nil || its != nil { // which has given itself another certificate
		t.Errorf("the keeper is not heard: %v, %v", ours, its)
	}
	if next.Counts(untold.Leaf) {
		t.Error("the certificate that the keeper had before still counts")
	}
	other := enrolledBy(t, authority, "tern-1")
	if ours, its := meet(t, old, other, "tern-1"); ours != nil || its != nil {
		t.Errorf("another node's agent is refused: %v, %v", ours, its)
	}
}

// TestAnAuthorityTakesThePlaceOfAnother goes through a rotation step by step, with an agent that is told each of them and one that hears nothing.
func TestAnAuthorityTakesThePlaceOfAnother(t *testing.T) {
	authority, first := made(t)
	_, second := made(t)
	agent, deaf := enrolledBy(t, authority, "gull-1"), enrolledBy(t, authority, "tern-1")
	keeper := speaks(t, authority)
	tell := func(number int64) {
		t.Helper()
		authority.Refused().Set(number, time.Time{}, nil)
		signed, _, err := authority.Vouched()
		if err = errors.Join(err, agent.Follow(signed)); err != nil {
			t.Fatal(err)
		}
	}
	heard := func(a *Agent, node string) bool {
		ours, its := meet(t, keeper, a, node)
		return ours == nil && its == nil
	}
	due := authority.Teller()
	old, err := x509.ParseCertificate(agent.cert.Certificate[0])
	if err != nil || due(old) {
		t.Errorf("a new certificate is to be renewed: %v", err)
	}
	if err := authority.Beside(second); err != nil {
		t.Fatal(err)
	}
	if !heard(agent, "gull-1") || !heard(deaf, "tern-1") {
		t.Error("agents are lost as soon as there is another authority")
	}
	tell(2)
	if !due(old) {
		t.Error("an agent's certificate by the one before is not renewed")
	}
	request, err := agent.Request()
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := authority.Sign(request, "gull-1")
	if err = errors.Join(err, agent.Take(certificate, nil)); err != nil {
		t.Fatal(err)
	}
	if due(agent.cert.Leaf) || !heard(agent, "gull-1") || !heard(deaf, "tern-1") {
		t.Error("agents are lost as they are given certificates by the other authority")
	}
	name := filepath.Join(t.TempDir(), "identity.json") // one that is started again in between knows both
	if err := agent.Keep(name, make([]byte, sealBytes)); err != nil {
		t.Fatal(err)
	}
	var again Agent
	if _, err := again.Load(name); err != nil || again.Told() != 2 || !heard(&again, "gull-1") {
		t.Errorf("an agent that was started again knows less: %v", err)
	}
	authority.TakesPlace()
	if !heard(agent, "gull-1") {
		t.Error("an agent is lost as the other authority takes the place")
	}
	tell(3)
	if heard(deaf, "tern-1") {
		t.Error("an agent that has heard nothing is believed")
	}
	thief, err := Parse(first)
	if err != nil {
		t.Fatal(err)
	}
	if ours, _ := meet(t, speaks(t, thief), agent, "gull-1"); ours == nil {
		t.Error("whoever has the authority before is answered")
	}
	thief.Refused().Set(9, time.Time{}, nil)
	if signed, _, err := thief.Vouched(); err != nil || agent.Follow(signed) == nil {
		t.Errorf("the authority before says whose word counts: %v", err)
	}
}
