package outside

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestAWatcherSaysWhoAnswers(t *testing.T) {
	up := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/sick" {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	defer up.Close()
	at := strings.TrimPrefix(up.URL, "http://")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	down := l.Addr().String()
	l.Close()
	listed := filepath.Join(t.TempDir(), "watched")
	if err := os.WriteFile(listed, []byte(at+"\n"+down+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		o      Options
		ready  bool
		answer int
		silent string
	}{
		{Options{To: []string{at}}, true, 1, ""},
		{Options{To: []string{at, down}, Need: 1}, true, 1, down + " (connection refused)"},
		{Options{To: []string{at, down}, Need: 2}, false, 1, down + " (connection refused)"},
		{Options{From: listed}, true, 1, down + " (connection refused)"},
		{Options{From: listed + ".gone"}, false, 0, "no such file"},
		{Options{To: []string{down}}, false, 0, "connection refused"},
		{Options{To: []string{at}, Path: "/well"}, true, 1, ""},
		{Options{To: []string{at}, Path: "/sick"}, false, 0, "HTTP status 503"},
	} {
		w := &watcher{Options: test.o, client: http.DefaultClient}
		h := w.round(context.Background())
		if h.Ready != test.ready || h.Answer != test.answer || !strings.Contains(strings.Join(h.Silent, ";"), test.silent) || !h.Checked {
			t.Errorf("%+v: got %+v", test.o, h)
		}
		w.now = h
		answer := httptest.NewRecorder()
		w.health(answer, nil)
		if (answer.Code == http.StatusOK) != test.ready || !strings.Contains(answer.Body.String(), `"ready":`) {
			t.Errorf("%+v: its health is %d %s", test.o, answer.Code, answer.Body)
		}
	}
	if err := Run(context.Background(), Options{}); err == nil {
		t.Error("a watcher watches nothing")
	}
}
