package leaseguard

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"lanternfield/internal/core/lease"
	"lanternfield/internal/leasestore"
)

// store is the etcd in which the lease and the record of the role are. Its keys:
//
//	/lanternfield/FIELD/ROLE/holder   who holds the lease, as long as that lasts
//	/lanternfield/FIELD/ROLE/record   what stays, whoever holds it
type store struct {
	*leasestore.Store
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
	access := leasestore.Access{URLs: c.Store.URLs, User: c.Store.User, Password: c.Store.Password}
	if authority := c.StoreAuthority(); authority != "" {
		pool, err := believes(authority)
		if err != nil {
			return nil, err
		}
		access.TLS = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
		if file := c.StoreCertificate(); file != "" {
			access.TLS.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return shows(file) }
		}
	}
	etcd, err := leasestore.Open(access)
	if err != nil {
		return nil, err
	}
	prefix := "/lanternfield/" + c.Field + "/" + string(c.Role) + "/"
	return &store{Store: etcd, prefix: prefix, holder: prefix + "holder", record: prefix + "record"}, nil
}

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
	err := s.Try(ctx, func(ctx context.Context, c *clientv3.Client) (err error) {
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
	if id, err = s.Grant(ctx, lasts); err != nil {
		return 0, seen{}, false, err
	}
	h := lease.Holder{Member: r.Lead, Number: r.Number}
	var got *clientv3.TxnResponse
	err = s.Once(ctx, func(ctx context.Context, c *clientv3.Client) (err error) { // never twice: what came of it is read
		got, err = c.Txn(ctx).
			If(clientv3.Compare(clientv3.CreateRevision(s.holder), "=", 0), clientv3.Compare(clientv3.ModRevision(s.record), "=", was.recordAt)).
			Then(clientv3.OpPut(s.holder, text(h), clientv3.WithLease(id)), clientv3.OpPut(s.record, text(r))).Commit()
		return err
	})
	if err != nil || !got.Succeeded {
		return id, seen{}, false, err
	}
	at := got.Header.Revision
	return id, seen{Store: lease.Store{Known: true, Record: &r, Holder: &h}, holderAt: at, recordAt: at}, true, nil
}

// write writes the record, if the lease that was taken at that revision is still held, and the record is as it was read.
func (s *store) write(ctx context.Context, r lease.Record, was seen) (now seen, err error) {
	var got *clientv3.TxnResponse
	err = s.Once(ctx, func(ctx context.Context, c *clientv3.Client) (err error) {
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

// drop takes a holder's key away that an earlier run of this guard has left.
func (s *store) drop(ctx context.Context, was seen) error {
	return s.Once(ctx, func(ctx context.Context, c *clientv3.Client) error {
		_, err := c.Txn(ctx).If(clientv3.Compare(clientv3.CreateRevision(s.holder), "=", was.holderAt)).Then(clientv3.OpDelete(s.holder)).Commit()
		return err
	})
}
