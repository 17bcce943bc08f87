package leaseguard

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"sync/atomic"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"

	"lanternfield/internal/core/lease"
)

// errGone says that a lease has ended in the store.
var errGone = errors.New("the lease has ended in the store")

// store is the etcd in which the lease and the record of the role are. Its keys:
//
//	/lanternfield/FIELD/ROLE/holder   who holds the lease, as long as that lasts
//	/lanternfield/FIELD/ROLE/record   what stays, whoever holds it
type store struct {
	clients        []*clientv3.Client // one for each member of the etcd: one that hangs is passed over at once
	at             atomic.Int64       // which of them is asked
	prefix         string
	holder, record string
}

// seen is what was read, with what has to be the same still when something is written.
type seen struct {
	lease.Store
	holderAt, recordAt int64 // revisions: of the holder's creation, of the record's last change
}

// open gives a client of the store; nothing is asked yet.
func open(c *lease.Config) (*store, error) {
	cfg := clientv3.Config{Endpoints: c.Store.URLs, DialTimeout: time.Second, DialKeepAliveTime: 2 * time.Second, DialKeepAliveTimeout: time.Second,
		Username: c.Store.User, Password: c.Store.Password, Logger: zap.NewNop()}
	if authority := c.StoreAuthority(); authority != "" {
		pool, err := believes(authority)
		if err != nil {
			return nil, err
		}
		cfg.TLS = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
		if file := c.StoreCertificate(); file != "" {
			cfg.TLS.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return shows(file) }
		}
	}
	prefix := "/lanternfield/" + c.Field + "/" + string(c.Role) + "/"
	s := &store{prefix: prefix, holder: prefix + "holder", record: prefix + "record"}
	for _, url := range c.Store.URLs {
		one := cfg
		one.Endpoints = []string{url}
		client, err := clientv3.New(one)
		if err != nil {
			s.close()
			return nil, fmt.Errorf("the lease store: %w", err)
		}
		s.clients = append(s.clients, client)
	}
	if len(s.clients) == 0 {
		return nil, errors.New("the lease store has no address")
	}
	return s, nil
}

func (s *store) close() {
	for _, c := range s.clients {
		_ = c.Close()
	}
}

// try asks one member of the etcd, and the next ones where it does not answer in time; each at most once, until the context ends.
func (s *store) try(ctx context.Context, ask func(ctx context.Context, c *clientv3.Client) error) (err error) {
	for range s.clients {
		if err = s.once(ctx, ask); err == nil || ctx.Err() != nil || errors.Is(err, rpctypes.ErrLeaseNotFound) {
			return err
		}
	}
	return err
}

// once asks one member of the etcd; the next time it is another one, where it does not answer in time.
func (s *store) once(ctx context.Context, ask func(ctx context.Context, c *clientv3.Client) error) error {
	at := s.at.Load()
	one, cancel := context.WithTimeout(ctx, tryWait)
	defer cancel()
	err := ask(one, s.clients[int(at)%len(s.clients)])
	if err != nil {
		s.at.CompareAndSwap(at, at+1)
	}
	return err
}

// tryWait is how long one member of the etcd has for an answer.
const tryWait = 400 * time.Millisecond

// believes reads authorities.
func believes(file string) (*x509.CertPool, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(data) {
		return nil, fmt.Errorf("%s holds no certificate", file)
	}
	return pool, nil
}

// shows reads a certificate and its key from one file, anew each time: both are renewed.
func shows(file string) (*tls.Certificate, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(data, data)
	return &pair, err
}

// read reads both keys at one moment, as the majority of the store has them.
func (s *store) read(ctx context.Context) (seen, error) {
	var got *clientv3.TxnResponse
	err := s.try(ctx, func(ctx context.Context, c *clientv3.Client) (err error) {
		got, err = c.Txn(ctx).Then(clientv3.OpGet(s.holder), clientv3.OpGet(s.record)).Commit()
		return err
	})
	if err != nil {
		return seen{}, err
	}
	out := seen{Store: lease.Store{Known: true}}
	if kvs := got.Responses[0].GetResponseRange().Kvs; len(kvs) > 0 {
		out.holderAt = kvs[0].CreateRevision
		if err := json.Unmarshal(kvs[0].Value, &out.Holder); err != nil {
			return seen{}, fmt.Errorf("%s in the store: %w", s.holder, err)
		}
	}
	if kvs := got.Responses[1].GetResponseRange().Kvs; len(kvs) > 0 {
		out.recordAt = kvs[0].ModRevision
		if err := json.Unmarshal(kvs[0].Value, &out.Record); err != nil {
			return seen{}, fmt.Errorf("%s in the store: %w", s.record, err)
		}
	}
	return out, nil
}

func text(v any) string {
	data, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain values
	}
	return string(data)
}

// acquire takes the lease and writes the record with it, if the lease is free and the record as it was read. It gives the lease even where it is not
// known whether the store has it, so that it can be given back.
func (s *store) acquire(ctx context.Context, r lease.Record, was seen, lasts time.Duration) (id clientv3.LeaseID, now seen, taken bool, err error) {
	var grant *clientv3.LeaseGrantResponse
	err = s.try(ctx, func(ctx context.Context, c *clientv3.Client) (err error) {
		grant, err = c.Grant(ctx, int64((lasts+time.Second-1)/time.Second))
		return err
	})
	if err != nil {
		return 0, seen{}, false, err
	}
	h := lease.Holder{Member: r.Lead, Number: r.Number}
	var got *clientv3.TxnResponse
	err = s.once(ctx, func(ctx context.Context, c *clientv3.Client) (err error) { // never twice: what came of it is read
		got, err = c.Txn(ctx).
			If(clientv3.Compare(clientv3.CreateRevision(s.holder), "=", 0), clientv3.Compare(clientv3.ModRevision(s.record), "=", was.recordAt)).
			Then(clientv3.OpPut(s.holder, text(h), clientv3.WithLease(grant.ID)), clientv3.OpPut(s.record, text(r))).Commit()
		return err
	})
	if err != nil || !got.Succeeded {
		return grant.ID, seen{}, false, err
	}
	at := got.Header.Revision
	return grant.ID, seen{Store: lease.Store{Known: true, Record: &r, Holder: &h}, holderAt: at, recordAt: at}, true, nil
}

// write writes the record, if the lease that was taken at that revision is still held, and the record is as it was read.
func (s *store) write(ctx context.Context, r lease.Record, was seen) (now seen, err error) {
	var got *clientv3.TxnResponse
	err = s.once(ctx, func(ctx context.Context, c *clientv3.Client) (err error) {
		got, err = c.Txn(ctx).
			If(clientv3.Compare(clientv3.CreateRevision(s.holder), "=", was.holderAt), clientv3.Compare(clientv3.ModRevision(s.record), "=", was.recordAt)).
			Then(clientv3.OpPut(s.record, text(r))).Commit()
		return err
	})
	if err != nil {
		return seen{}, err
	}
	if !got.Succeeded {
		return seen{}, errors.New("the store has changed meanwhile")
	}
	now = was
	now.Record, now.recordAt = &r, got.Header.Revision
	return now, nil
}

// renew has the lease go on.
func (s *store) renew(ctx context.Context, id clientv3.LeaseID) error {
	err := s.try(ctx, func(ctx context.Context, c *clientv3.Client) error {
		_, err := c.KeepAliveOnce(ctx, id)
		return err
	})
	if errors.Is(err, rpctypes.ErrLeaseNotFound) {
		return errGone
	}
	return err
}

// release gives a lease back, with all that hangs on it.
func (s *store) release(ctx context.Context, id clientv3.LeaseID) {
	_ = s.try(ctx, func(ctx context.Context, c *clientv3.Client) error { // else it ends by itself
		_, err := c.Revoke(ctx, id)
		return err
	})
}

// drop takes a holder's key away that an earlier run of this guard has left.
func (s *store) drop(ctx context.Context, was seen) error {
	return s.once(ctx, func(ctx context.Context, c *clientv3.Client) error {
		_, err := c.Txn(ctx).If(clientv3.Compare(clientv3.CreateRevision(s.holder), "=", was.holderAt)).Then(clientv3.OpDelete(s.holder)).Commit()
		return err
	})
}

// changes tells when something has changed in the store, until the context ends.
func (s *store) changes(ctx context.Context, tell func()) {
	c := s.clients[int(s.at.Load())%len(s.clients)]
	for r := range c.Watch(clientv3.WithRequireLeader(ctx), s.prefix, clientv3.WithPrefix()) {
		if r.Err() != nil {
			return
		}
		tell()
	}
}
