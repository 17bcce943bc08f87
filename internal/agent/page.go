package agent

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"lanternfield/internal/netfault"
)

// send sends a request to a port of the member, over TLS where that is spoken there.
func (a *asker) send(req *http.Request, port string) (*http.Response, error) {
	if a.spec.Ports[port].TLS {
		return a.httpOver(req, port)
	}
	return probeClient.Do(req)
}

// page opens a page of the member, of whatever size; who asked for it closes it.
func (a *asker) page(ctx context.Context, port, path string) (io.ReadCloser, error) {
	what := "GET " + path
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+a.address(port)+path, http.NoBody)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	res, err := a.send(req, port)
	if err != nil {
		return nil, netfault.Of(what, err)
	}
	if res.StatusCode != http.StatusOK {
		res.Body.Close()
		return nil, fmt.Errorf("%s: HTTP status %d", what, res.StatusCode)
	}
	return res.Body, nil
}
