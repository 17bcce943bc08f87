package relay

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/demo/part"
)

// two starts two relays that know each other and gives their URLs.
func two(t *testing.T) [2]string {
	t.Helper()
	var address, urls [2]string
	for i := range 2 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		address[i] = l.Addr().String()
		urls[i] = "http://" + address[i]
		l.Close()
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 2)
	for i := range 2 {
		config := filepath.Join(t.TempDir(), "relay.json")
		if err := os.WriteFile(config, fmt.Appendf(nil, `{"peers": [%q]}`, urls[1-i]), 0o600); err != nil {
			t.Fatal(err)
		}
		go func() {
			done <- Run(ctx, Options{Options: part.Options{Name: fmt.Sprint("r", i+1), Listen: address[i], Config: config}, DoneWithin: 300 * time.Millisecond})
		}()
	}
	t.Cleanup(func() {
		cancel()
		for range 2 {
			if err := <-done; err != nil {
				t.Error(err)
			}
		}
	})
	for _, url := range urls {
		for part.Call(ctx, http.DefaultClient, "GET", url+"/health", nil, nil) != nil {
			time.Sleep(5 * time.Millisecond)
		}
	}
	return urls
}

func next(t *testing.T, url, wait string) Job {
	t.Helper()
	var j Job
	if err := part.Call(t.Context(), http.DefaultClient, "GET", url+"/jobs/next?wait="+wait, nil, &j); err != nil {
		t.Fatal(err)
	}
	return j
}

func post(t *testing.T, url, body string) error {
	t.Helper()
	return part.Call(t.Context(), http.DefaultClient, "POST", url, strings.NewReader(body), nil)
}

func TestAJobReachesAWorkerOfAnotherRelayAndIsFinishedThroughIt(t *testing.T) {
	r := two(t)
	if err := post(t, r[0]+"/jobs", "1=sell"); err != nil {
		t.Fatal(err)
	}
	j := next(t, r[1], "5s")
	if j.Body != "1=sell" || !strings.HasPrefix(j.ID, "r1.") {
		t.Fatalf("got %+v", j)
	}
	if err := post(t, r[1]+"/jobs/"+j.ID+"/done", ""); err != nil {
		t.Fatal(err)
	}
	if err := post(t, r[0]+"/jobs/"+j.ID+"/done", ""); err == nil {
		t.Error("a job was finished twice")
	}
	if again := next(t, r[0], "600ms"); again.ID != "" {
		t.Errorf("a finished job was handed out again: %+v", again)
	}
}

func TestAJobThatIsNotFinishedIsHandedOutAgain(t *testing.T) {
	r := two(t)
	if err := post(t, r[0]+"/jobs", "1=sell"); err != nil {
		t.Fatal(err)
	}
	first := next(t, r[0], "5s")
	if second := next(t, r[1], "5s"); second != first {
		t.Errorf("got %+v, want %+v", second, first)
	}
}

func TestNewsReachTheSubscribersOfAllRelays(t *testing.T) {
	r := two(t)
	var readers []*bufio.Reader
	for _, url := range r {
		res, err := http.Get(url + "/news")
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		readers = append(readers, bufio.NewReader(res.Body))
	}
	if err := post(t, r[1]+"/news", "the tide\nturns"); err != nil {
		t.Fatal(err)
	}
	for i, reader := range readers {
		if line, err := reader.ReadString('\n'); err != nil || line != "the tide turns\n" {
			t.Errorf("subscriber of relay %d got %q, %v", i+1, line, err)
		}
	}
}
