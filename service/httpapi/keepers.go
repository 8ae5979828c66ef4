package httpapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"github.com/go-chi/chi/v5"

	"kamerad.example/api"
	"kamerad.example/service/past"
	"kamerad.example/service/problems"
	"kamerad.example/store"
)

// keepers are the routes of what players keep, or worlds.
type keepers struct {
	api       *API
	areWorlds bool
}

// sort returns who they are.
func (k keepers) sort() api.Keepers {
	if k.areWorlds {
		return api.Worlds
	}
	return api.Players
}

// describeKept returns what somebody keeps as the API tells it.
func describeKept(list []store.Kept) []api.Kept {
	out := make([]api.Kept, 0, len(list))
	for _, k := range list {
		out = append(out, api.Kept{
			Contract:  k.Contract,
			Player:    k.Name,
			Values:    k.Values,
			Session:   k.Session,
			ChangedAt: k.At,
		})
	}
	return out
}

// list lists what they keep, what changed last first.
func (k keepers) list(r *http.Request) ([]api.Kept, error) {
	list, err := k.api.recordings.KeptBy(r.Context(), "", k.areWorlds, maxListed)
	return describeKept(list), err
}

// kept returns what one of them keeps, of each contract.
func (k keepers) kept(r *http.Request) ([]api.Kept, error) {
	list, err := k.api.recordings.KeptBy(r.Context(), chi.URLParam(r, "name"), k.areWorlds, maxListed)
	return describeKept(list), err
}

// set gives one of them other values of what it keeps of a contract.
func (k keepers) set(r *http.Request, in api.SetKept) ([]api.Kept, error) {
	keeper := store.Keeper{Contract: in.Contract, Name: chi.URLParam(r, "name"), IsWorld: k.areWorlds}
	version, err := k.api.records.Version(r.Context(), in.Contract, 0)
	if errors.Is(err, store.ErrNotFound) {
		detail := fmt.Sprintf("set what %.40s keeps: there is no contract %.80q", keeper, in.Contract)
		return nil, problems.BadRequest(detail)
	}
	if err != nil {
		return nil, err
	}
	if err := checkKept(version, in.Values, k.areWorlds); err != nil {
		return nil, problems.BadRequest(fmt.Sprintf("set what %.40s keeps of %s: %s", keeper, in.Contract, err))
	}
	if err := k.api.recordings.SetKept(r.Context(), keeper, in.Values); err != nil {
		return nil, leasedError(keeper, err)
	}
	k.api.note(r, 0, fmt.Sprintf("set what %s keeps of %s", keeper, in.Contract))
	return k.kept(r)
}

// checkKept holds values against the newest version of a contract.
func checkKept(version store.Version, values map[string]json.RawMessage, byWorld bool) error {
	c, err := past.Contract(version)
	if err != nil {
		return err
	}
	types := map[string]func(json.RawMessage) error{}
	known := ""
	for _, k := range c.Kinds {
		for _, p := range k.Properties {
			if p.Keep && k.Shared == byWorld {
				name := k.Name + "." + p.Name
				known += " " + name
				types[name] = func(raw json.RawMessage) error { _, err := p.Type.ParseJSON(raw); return err }
			}
		}
	}
	for name, raw := range values {
		fits := types[name]
		if fits == nil {
			return fmt.Errorf("it keeps no %.80q, only:%s", name, known)
		}
		if err := fits(raw); err != nil {
			return fmt.Errorf("`%s` %w", name, err)
		}
	}
	return nil
}

// delete forgets what one of them keeps, of one contract or of all, and takes the name of a player out of recordings.
func (k keepers) delete(r *http.Request) (out api.Forgotten, err error) {
	keeper := store.Keeper{
		Contract: r.URL.Query().Get("contract"),
		Name:     chi.URLParam(r, "name"),
		IsWorld:  k.areWorlds,
	}
	deleted, err := k.api.recordings.DeleteKept(r.Context(), keeper)
	if err != nil {
		return out, leasedError(keeper, err)
	}
	k.api.note(r, 0, "deleted what somebody keeps")
	if !k.areWorlds {
		out, err = k.api.past.Forget(r.Context(), k.api.recordings, keeper.Name, keeper.Contract)
	}
	out.Kept = deleted
	return out, err
}

// leasedError says for a caller that a session has what somebody keeps.
func leasedError(k store.Keeper, err error) error {
	var leased *store.ErrLeased
	if !errors.As(err, &leased) {
		return err
	}
	detail := "%.40s plays in session %d, which has what they keep; it is free once they have left"
	if k.IsWorld {
		detail = "%.70s is in session %d, which has what it keeps; it is free once that has closed"
	}
	return &problems.Refusal{Status: http.StatusConflict, Detail: fmt.Sprintf(detail, k, leased.Session)}
}
