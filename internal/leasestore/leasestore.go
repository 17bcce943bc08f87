// Package leasestore is the etcd in which leases are kept, as those who hold them ask it: one of its members that hangs is passed over at once.
package leasestore

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
)

// Access is how the store is reached.
type Access struct {
	URLs     []string
	User     string
	Password string
	TLS      *tls.Config // nil where it speaks none
}

// Store asks an etcd.
type Store struct {
	clients []*clientv3.Client // one for each member of the etcd
	at      atomic.Int64       // which of them is asked
}

// ErrGone says that a lease has ended in the store.
var ErrGone = errors.New("the lease has ended in the store")

// tryWait is how long one member of the etcd has for an answer.
const tryWait = 400 * time.Millisecond

// Open gives a client of the store; nothing is asked yet.
func Open(a Access) (*Store, error) {
	s := &Store{}
	for _, url := range a.URLs {
		client, err := clientv3.New(clientv3.Config{Endpoints: []string{url}, DialTimeout: time.Second, DialKeepAliveTime: 2 * time.Second, DialKeepAliveTimeout: time.Second,
			Username: a.User, Password: a.Password, TLS: a.TLS, Logger: zap.NewNop()})
		if err != nil {
			s.Close()
			return nil, fmt.Errorf("the lease store: %w", err)
		}
		s.clients = append(s.clients, client)
	}
	if len(s.clients) == 0 {
		return nil, errors.New("the lease store has no address")
	}
	return s, nil
}

// Close lets go of it. Leases go on.
func (s *Store) Close() {
	for _, c := range s.clients {
		_ = c.Close()
	}
}

// Try asks one member of the etcd, and the next ones where it does not answer in time; each at most once, until the context ends.
func (s *Store) Try(ctx context.Context, ask func(ctx context.Context, c *clientv3.Client) error) (err error) {
	for range s.clients {
		if err = s.Once(ctx, ask); err == nil || ctx.Err() != nil || errors.Is(err, rpctypes.ErrLeaseNotFound) {
			return err
		}
	}
	return err
}

// Once asks one member of the etcd; the next time it is another one, where it does not answer in time.
func (s *Store) Once(ctx context.Context, ask func(ctx context.Context, c *clientv3.Client) error) error {
	at := s.at.Load()
	one, cancel := context.WithTimeout(ctx, tryWait)
	defer cancel()
	err := ask(one, s.clients[int(at)%len(s.clients)])
	if err != nil {
		s.at.CompareAndSwap(at, at+1)
	}
	return err
}

// Grant gives a lease that lasts that long, in whole seconds rounded up, where it is not renewed.
func (s *Store) Grant(ctx context.Context, lasts time.Duration) (id clientv3.LeaseID, err error) {
	err = s.Try(ctx, func(ctx context.Context, c *clientv3.Client) error {
		grant, err := c.Grant(ctx, int64((lasts+time.Second-1)/time.Second))
		if err == nil {
			id = grant.ID
		}
		return err
	})
	return id, err
}

// Renew has a lease go on. The error is ErrGone where it has ended.
func (s *Store) Renew(ctx context.Context, id clientv3.LeaseID) error {
	err := s.Try(ctx, func(ctx context.Context, c *clientv3.Client) error {
		_, err := c.KeepAliveOnce(ctx, id)
		return err
	})
	if errors.Is(err, rpctypes.ErrLeaseNotFound) {
		return ErrGone
	}
	return err
}

// Revoke gives a lease back, with all that hangs on it. Where that does not come through, it ends by itself.
func (s *Store) Revoke(ctx context.Context, id clientv3.LeaseID) error {
	return s.Try(ctx, func(ctx context.Context, c *clientv3.Client) error {
		_, err := c.Revoke(ctx, id)
		return err
	})
}

// Changes tells when something has changed below a prefix, until the context ends or the store does not answer.
func (s *Store) Changes(ctx context.Context, prefix string, tell func()) {
	c := s.clients[int(s.at.Load())%len(s.clients)]
	for r := range c.Watch(clientv3.WithRequireLeader(ctx), prefix, clientv3.WithPrefix()) {
		if r.Err() != nil {
			return
		}
		tell()
	}
}
