package warden

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/hashicorp/raft"

	"lanternfield/internal/demo/part"
)

// listed is a member on the store's own list.
type listed struct {
	ID      string `json:"id"`
	Address string `json:"address"`
	Voter   bool   `json:"voter"`
}

func (w *warden) list() ([]listed, error) {
	f := w.raft.GetConfiguration()
	if err := f.Error(); err != nil {
		return nil, err
	}
	members := []listed{}
	for _, s := range f.Configuration().Servers {
		members = append(members, listed{ID: string(s.ID), Address: string(s.Address), Voter: s.Suffrage == raft.Voter})
	}
	return members, nil
}

func (w *warden) members(rw http.ResponseWriter, _ *http.Request) {
	members, err := w.list()
	if err != nil {
		fail(rw, err)
		return
	}
	part.Answer(rw, http.StatusOK, map[string]any{"members": members})
}

// decided answers with the list as it is after a change.
func (w *warden) decided(rw http.ResponseWriter, f raft.IndexFuture) {
	if err := f.Error(); err != nil {
		fail(rw, err)
		return
	}
	w.members(rw, nil)
}

func (w *warden) admit(rw http.ResponseWriter, r *http.Request) {
	var who listed
	if err := json.NewDecoder(http.MaxBytesReader(rw, r.Body, 4<<10)).Decode(&who); err != nil || who.ID == "" || who.Address == "" {
		part.Refuse(rw, http.StatusBadRequest, `write {"id": …, "address": …}`)
		return
	}
	if _, known := w.find(who.ID); known {
		part.Refuse(rw, http.StatusConflict, "%s is a member already", who.ID)
		return
	}
	w.decided(rw, w.raft.AddNonvoter(raft.ServerID(who.ID), raft.ServerAddress(who.Address), 0, applyTimeout))
}

func (w *warden) find(id string) (listed, bool) {
	members, _ := w.list()
	for _, m := range members {
		if m.ID == id {
			return m, true
		}
	}
	return listed{}, false
}

// promote lets a learner vote that says itself that it has caught up.
func (w *warden) promote(rw http.ResponseWriter, r *http.Request) {
	who, known := w.find(r.PathValue("id"))
	if !known {
		part.Refuse(rw, http.StatusNotFound, "%s is no member", r.PathValue("id"))
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), time.Second)
	defer cancel()
	if err := part.Call(ctx, w.http, http.MethodGet, "http://"+who.Address+"/health", nil, nil); err != nil {
		part.Refuse(rw, http.StatusConflict, "%s is not ready to vote: %v", who.ID, err)
		return
	}
	w.decided(rw, w.raft.AddVoter(raft.ServerID(who.ID), raft.ServerAddress(who.Address), 0, applyTimeout))
}

func (w *warden) dismiss(rw http.ResponseWriter, r *http.Request) {
	if _, known := w.find(r.PathValue("id")); !known {
		part.Refuse(rw, http.StatusNotFound, "%s is no member", r.PathValue("id"))
		return
	}
	w.decided(rw, w.raft.RemoveServer(raft.ServerID(r.PathValue("id")), 0, applyTimeout))
}

func (w *warden) handOver(rw http.ResponseWriter, r *http.Request) {
	var to struct{ To string }
	_ = json.NewDecoder(http.MaxBytesReader(rw, r.Body, 4<<10)).Decode(&to)
	who, known := w.find(to.To)
	if !known || !who.Voter {
		part.Refuse(rw, http.StatusBadRequest, "%q is no voter; write {\"to\": …}", to.To)
		return
	}
	if err := w.raft.LeadershipTransferToServer(raft.ServerID(who.ID), raft.ServerAddress(who.Address)).Error(); err != nil {
		fail(rw, err)
		return
	}
	part.Answer(rw, http.StatusOK, map[string]string{"leader": who.ID})
}
