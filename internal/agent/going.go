package agent

import (
	"compress/gzip"
	"encoding/json"
	"errors"
	"net/http"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/host"
)

// Where only its own agent can do anything on a machine, as on one that has joined by an invitation, it also replaces its own programs, and takes everything
// of itself away.

// errReplaced ends an agent whose program was replaced, so that who keeps it running starts the new one.
var errReplaced = errors.New("the agent's program was replaced; it is started anew")

// parting is how an agent goes that was asked to take everything of itself away.
type parting struct {
	left []string
	err  error
}

// mostProgram bounds the size of a program.
const mostProgram = 64 << 20

// replace takes a program, compressed by gzip; it is run when the agent is started next.
func (a *Agent) replace(w http.ResponseWriter, r *http.Request) {
	name := r.PathValue("name")
	if name != host.AgentProgram && name != host.GuardProgram || a.kept == nil {
		http.Error(w, "this agent replaces no such program", http.StatusNotFound)
		return
	}
	in, err := gzip.NewReader(http.MaxBytesReader(w, r.Body, mostProgram))
	if err == nil {
		err = a.disk.inNeed(func() error {
			return host.PutProgram(a.options.Dir, name, http.MaxBytesReader(w, in, mostProgram), r.FormValue("sum"))
		})
	}
	if err != nil {
		refuse(w, agentapi.Refuse(http.StatusInsufficientStorage, host.DiskError(err).Error()))
	}
}

// restart ends the agent so that it is started anew.
func (a *Agent) restart(w http.ResponseWriter) {
	if a.kept == nil {
		http.Error(w, "nobody would start this agent again", http.StatusNotFound)
		return
	}
	w.WriteHeader(http.StatusAccepted)
	a.mu.Lock()
	a.ending = errReplaced
	a.mu.Unlock()
	a.quit()
}

// leave ends the agent and takes everything of it away. It gives what is left there all the same.
func (a *Agent) leave(w http.ResponseWriter) {
	if a.options.TakeAway == nil {
		http.Error(w, "this agent does not take itself away", http.StatusNotFound)
		return
	}
	said := make(chan parting, 1)
	a.mu.Lock()
	again := a.parting != nil
	if !again {
		a.parting = said
	}
	a.mu.Unlock()
	if again {
		http.Error(w, "it is being taken away", http.StatusConflict)
		return
	}
	a.quit()
	p := <-said
	if p.err != nil {
		http.Error(w, p.err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(append([]string{}, p.left...))
}

// part takes everything away where that was asked for, when the agent does nothing any more.
func (a *Agent) part() error {
	a.mu.Lock()
	said, ending := a.parting, a.ending
	a.mu.Unlock()
	if said == nil {
		return ending
	}
	a.wait.Wait()
	left, err := a.options.TakeAway()
	said <- parting{left, err}
	return err
}
