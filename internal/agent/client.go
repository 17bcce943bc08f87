package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// Client speaks to one agent.
type Client struct {
	url, token string
	http       *http.Client
}

// NewClient makes a client for the agent that answers at that URL.
func NewClient(url, token string) *Client {
	return &Client{url: url, token: token, http: &http.Client{Transport: &http.Transport{
		MaxIdleConnsPerHost: 4, ReadBufferSize: 4 << 10, WriteBufferSize: 4 << 10, Proxy: nil}}}
}

// Close lets go of the connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Put sends an order. An error of type *Refused is the agent's answer; any other means that it could not be asked.
func (c *Client) Put(ctx context.Context, o order.Order) error {
	data, err := json.Marshal(o)
	if err != nil {
		return err
	}
	_, err = c.do(ctx, http.MethodPut, "/v1/members/"+string(o.Member), data)
	return err
}

// Operate sends an operation; errors are as with Put.
func (c *Client) Operate(ctx context.Context, o order.Operation) error {
	data, err := json.Marshal(o)
	if err != nil {
		return err
	}
	_, err = c.do(ctx, http.MethodPut, fmt.Sprintf("/v1/operations/%d", o.ID), data)
	return err
}

// Reports waits for reports above a number and acknowledges those up to ack; 0 acknowledges none.
func (c *Client) Reports(ctx context.Context, after, ack uint64, wait time.Duration) (*News, error) {
	body, err := c.do(ctx, http.MethodGet, fmt.Sprintf("/v1/reports?after=%d&ack=%d&wait=%s", after, ack, wait), nil)
	if err != nil {
		return nil, err
	}
	var n News
	return &n, json.Unmarshal(body, &n)
}

// Log reads a member's output from that place on, or its last lines when after is -1.
func (c *Client) Log(ctx context.Context, m field.MemberName, after int64, most int) (*Log, error) {
	body, err := c.do(ctx, http.MethodGet, fmt.Sprintf("/v1/members/%s/log?after=%d&most=%d", m, after, most), nil)
	if err != nil {
		return nil, err
	}
	var l Log
	return &l, json.Unmarshal(body, &l)
}

// Lookups asks whether what members need is on the node, and gives what is missing.
func (c *Client) Lookups(ctx context.Context, lookups []order.Lookup) (missing []string, err error) {
	data, err := json.Marshal(lookups)
	if err != nil {
		return nil, err
	}
	body, err := c.do(ctx, http.MethodPost, "/v1/lookups", data)
	if err != nil {
		return nil, err
	}
	return missing, json.Unmarshal(body, &missing)
}

// Quit ends the agent.
func (c *Client) Quit(ctx context.Context) error {
	_, err := c.do(ctx, http.MethodPost, "/v1/quit", nil)
	return err
}

func (c *Client) do(ctx context.Context, method, path string, data []byte) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.url+path, bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	res, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("its agent does not answer: %s", plainNet(err))
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, 64<<20))
	if err != nil {
		return nil, fmt.Errorf("its agent's answer was cut short: %w", err)
	}
	if res.StatusCode >= 400 {
		return nil, &Refused{Status: res.StatusCode, Why: strings.TrimSpace(string(body))}
	}
	return body, nil
}
