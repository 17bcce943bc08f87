package floating

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"lanternfield/internal/core/order"
	"lanternfield/internal/leasestore"
)

// store keeps one lease: under its key, whose member holds it.
type store struct {
	*leasestore.Store
	key string
}

func openStore(o *order.Floating) (leases, error) {
	a := leasestore.Access{URLs: o.URLs, User: o.User, Password: o.Password}
	believed := ""
	if o.TLS != nil {
		believed = o.TLS.Authority
	}
	if o.File != "" {
		data, err := os.ReadFile(o.File)
		if err != nil {
			return nil, err
		}
		believed = string(data)
	}
	if believed != "" {
		a.TLS = &tls.Config{RootCAs: x509.NewCertPool(), MinVersion: tls.VersionTLS12}
		if !a.TLS.RootCAs.AppendCertsFromPEM([]byte(believed)) {
			return nil, errors.New("the authority by which the store of its lease is believed cannot be read")
		}
	}
	if o.TLS != nil && o.TLS.Certificate != "" {
		pair, err := tls.X509KeyPair([]byte(o.TLS.Certificate), []byte(o.TLS.Key))
		if err != nil {
			return nil, fmt.Errorf("its certificate for the store of its lease cannot be used: %w", err)
		}
		a.TLS.Certificates = []tls.Certificate{pair}
	}
	etcd, err := leasestore.Open(a)
	if err != nil {
		return nil, err
	}
	return &store{etcd, o.Key}, nil
}

// Read reads who holds the lease, as the majority of the store has it.
func (s *store) Read(ctx context.Context) (out held, err error) {
	err = s.Try(ctx, func(ctx context.Context, c *clientv3.Client) error {
		got, err := c.Get(ctx, s.key)
		if err == nil && len(got.Kvs) > 0 {
			kv := got.Kvs[0]
			out = held{Member: string(kv.Value), Lease: kv.Lease, Term: uint64(kv.CreateRevision)}
		}
		return err
	})
	return out, err
}

// Take takes the lease where nobody holds it.
func (s *store) Take(ctx context.Context, member string, lasts time.Duration) (held, error) {
	id, err := s.Grant(ctx, lasts)
	if err != nil {
		return held{}, err
	}
	var got *clientv3.TxnResponse
	err = s.Once(ctx, func(ctx context.Context, c *clientv3.Client) (err error) { // never twice: what came of it is read
		got, err = c.Txn(ctx).If(clientv3.Compare(clientv3.CreateRevision(s.key), "=", 0)).Then(clientv3.OpPut(s.key, member, clientv3.WithLease(id))).Commit()
		return err
	})
	if err == nil && !got.Succeeded {
		err = errTaken
	}
	if err != nil {
		_ = s.Revoke(ctx, id) // else it ends by itself
		return held{}, err
	}
	return held{Member: member, Lease: int64(id), Term: uint64(got.Header.Revision)}, nil
}

// Renew has a lease go on.
func (s *store) Renew(ctx context.Context, id int64) error {
	return s.Store.Renew(ctx, clientv3.LeaseID(id))
}

// GiveBack ends it.
func (s *store) GiveBack(ctx context.Context, id int64) error {
	return s.Revoke(ctx, clientv3.LeaseID(id))
}

// Changes tells when somebody has taken it or given it back.
func (s *store) Changes(ctx context.Context, tell func()) { s.Store.Changes(ctx, s.key, tell) }
