package control

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"reflect"

	"lanternfield/internal/core/snapshot"
)

// part is one of the documents in which snapshots pass to who watches: first the snapshot without its members, then each member that is another than in the
// snapshot before, then one that says that this was all. Of ten thousand members, a change is mostly of one.
type part struct {
	Snapshot *snapshot.Snapshot   `json:"snapshot,omitempty"`
	Count    int                  `json:"count,omitempty"` // of its members
	At       int                  `json:"at,omitempty"`    // the member's place among them
	Member   *snapshot.MemberView `json:"member,omitempty"`
	Done     bool                 `json:"done,omitempty"`
}

// passOn writes snapshots as they come, until there are no more or who watches has gone.
func passOn(w io.Writer, flush func(), snapshots <-chan *snapshot.Snapshot) error {
	out := bufio.NewWriterSize(w, 64<<10)
	whole := json.NewEncoder(out)
	var before []snapshot.MemberView // as they were written
	for s := range snapshots {
		head := *s
		head.Members = nil
		if err := whole.Encode(part{Snapshot: &head, Count: len(s.Members)}); err != nil {
			return err
		}
		for i := range s.Members {
			if i < len(before) && reflect.DeepEqual(&before[i], &s.Members[i]) {
				continue
			}
			if err := whole.Encode(part{At: i, Member: &s.Members[i]}); err != nil {
				return err
			}
		}
		before = s.Members
		if err := whole.Encode(part{Done: true}); err != nil {
			return err
		}
		if err := out.Flush(); err != nil {
			return err
		}
		flush()
	}
	return nil
}

// takeUp reads what passOn writes, and gives each snapshot whole. It ends with the text, or where nobody takes another.
func takeUp(from io.Reader, give func(*snapshot.Snapshot) bool) error {
	dec := json.NewDecoder(bufio.NewReader(from))
	var now *snapshot.Snapshot
	var members []snapshot.MemberView
	for {
		var p part
		if err := dec.Decode(&p); err != nil {
			return err
		}
		switch {
		case p.Snapshot != nil:
			next := make([]snapshot.MemberView, p.Count)
			copy(next, members)
			now, members = p.Snapshot, next
		case p.Member != nil && now != nil && p.At < len(members):
			members[p.At] = *p.Member
		case p.Done && now != nil:
			now.Members = members
			if !give(now) {
				return nil
			}
		}
	}
}

// Watch gives a snapshot now and after every change.
func (r *remote) Watch(ctx context.Context) (<-chan *snapshot.Snapshot, error) {
	res, err := r.send(ctx, http.MethodGet, "/v1/follow", nil)
	if err != nil {
		return nil, err
	}
	out := make(chan *snapshot.Snapshot)
	go func() {
		defer close(out)
		defer res.Body.Close()
		_ = takeUp(res.Body, func(s *snapshot.Snapshot) bool {
			select {
			case out <- s:
				return true
			case <-ctx.Done():
				return false
			}
		})
	}()
	return out, nil
}
