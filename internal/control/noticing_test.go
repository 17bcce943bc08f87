package control

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// hook is a webhook that answers as a test wants it.
type hook struct {
	*httptest.Server
	mu     sync.Mutex
	refuse int // so many requests are refused
	got    []Telling
	ids    []string
	wrong  []string // signatures that do not hold
}

func (h *hook) take(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	var told Telling
	err := json.Unmarshal(body, &told)
	h.mu.Lock()
	defer h.mu.Unlock()
	if SignTelling("rope-and-anchor", r.Header.Get(webhookTime), body) != r.Header.Get(webhookSignature) || err != nil {
		h.wrong = append(h.wrong, r.Header.Get(webhookSignature))
	}
	if h.refuse > 0 {
		h.refuse--
		http.Error(w, "not now", http.StatusServiceUnavailable)
		return
	}
	h.got, h.ids = append(h.got, told), append(h.ids, r.Header.Get(webhookDelivery))
}

func (h *hook) told() []Telling {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]Telling(nil), h.got...)
}

// TestWebhooksAreToldOnceAndOnceOver has a member that cannot be kept running while one webhook hangs, and another refuses at first.
func TestWebhooksAreToldOnceAndOnceOver(t *testing.T) {
	h := &hook{refuse: 1}
	h.Server = httptest.NewTLSServer(http.HandlerFunc(h.take))
	t.Cleanup(h.Close)
	authority := filepath.Join(t.TempDir(), "hook.pem")
	if err := os.WriteFile(authority, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: h.Certificate().Raw}), 0o600); err != nil {
		t.Fatal(err)
	}
	release := make(chan struct{})
	hung := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-release:
		case <-r.Context().Done():
		}
	}))
	t.Cleanup(func() { close(release); hung.Close() })
	f, _ := folderWith(t)
	s := open(t, f)
	ctx := context.Background()
	draft := sleepers(2)
	flag := filepath.Join(t.TempDir(), "well")
	if err := os.WriteFile(flag, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	draft.Roles[0].Program.Ready.Exec = []string{"test", "-e", flag}
	draft.Secrets = map[string]field.GivenSecret{"hooks": {Env: "HOOKS"}}
	draft.Notices = field.Notices{After: field.Duration(time.Second), Webhooks: []field.Webhook{{URL: hung.URL, Secret: "hooks"}, {URL: h.URL + "/lantern", Secret: "hooks", Authority: authority}}}
	if problems := field.Validate(draft, nil); len(problems) > 0 {
		t.Fatal(problems)
	}
	if _, err := s.ChangeSecret(ctx, SecretAsked{Name: "hooks", Given: true, Value: "rope-and-anchor"}); err != nil {
		t.Fatal(err)
	}
	if err := s.Do(ctx, Request{What: "deploy", Draft: draft}); err != nil {
		t.Fatal(err)
	}
	await(t, s, "converged", func(s *snapshot.Snapshot) bool { return s.State == snapshot.Converged })
	if err := os.Remove(flag); err != nil {
		t.Fatal(err)
	}
	snap := await(t, s, "told", func(s *snapshot.Snapshot) bool {
		return len(s.Notices) == 1 && s.Notices[0].Told[h.URL+"/lantern"] == false && len(h.told()) == 1
	})
	if n := snap.Notices[0]; n.Kind != state.NoticeState || !strings.Contains(n.Text, "saltmarsh is ") {
		t.Errorf("the notice is %+v", n)
	}
	if err := os.WriteFile(flag, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	await(t, s, "told that it is over", func(s *snapshot.Snapshot) bool { return len(h.told()) == 2 })
	got := h.told()
	if got[0].State != "open" || got[1].State != "over" || got[0].Number != got[1].Number || got[1].Over.Before(got[1].Since) || got[0].Field != "saltmarsh" {
		t.Errorf("it was told %+v", got)
	}
	if len(h.wrong) > 0 {
		t.Errorf("signatures that do not hold: %q", h.wrong)
	}
	entries, err := s.Journal(ctx, Range{})
	if err != nil {
		t.Fatal(err)
	}
	counts := map[string]int{}
	for _, e := range entries {
		counts[e.Kind]++
		if e.Kind == "notice-over" && !strings.HasPrefix(e.Text, "over, after ") {
			t.Errorf("that it is over is told without how long it lasted: %s", e.Text)
		}
	}
	if counts["notice-begun"] != 1 || counts["notice-over"] != 1 || counts["notice-told"] != 2 {
		t.Errorf("the journal has %v", counts)
	}
	// A restart is planned: nobody is told of it.
	if err := s.Do(ctx, Request{What: "restart", Names: []string{"crews"}}); err != nil {
		t.Fatal(err)
	}
	await(t, s, "restarted", func(s *snapshot.Snapshot) bool {
		return s.State == snapshot.Converged && !s.Rollout.Active && len(s.Members) == 2 && s.Members[0].Incarnation > 1 && s.Members[1].Incarnation > 1
	})
	if n := len(h.told()); n != 2 {
		t.Errorf("it was told %d times", n)
	}
}
