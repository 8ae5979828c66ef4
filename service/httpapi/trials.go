package httpapi

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"kamerad.example/api"
	"kamerad.example/service/problems"
	"kamerad.example/store"
)

// startTrial begins a drill, an audit or another trial of a version and returns at once.
func (a *API) startTrial(r *http.Request, in api.StartTrial) (api.Trial, error) {
	version, err := a.versionOfPath(r)
	if err != nil {
		return api.Trial{}, err
	}
	return a.trials.Start(r.Context(), version, in)
}

// playDrill runs one drill of a version at once, and returns what who watches it would have seen.
func (a *API) playDrill(r *http.Request, in api.PlayDrill) (api.PlayedDrill, error) {
	version, err := a.versionOfPath(r)
	if err != nil {
		return api.PlayedDrill{}, err
	}
	return a.trials.Play(r.Context(), version, in)
}

// playEffect plays the shortest run of an effect that an audit found, and returns what who watches it would have seen.
func (a *API) playEffect(r *http.Request) (api.PlayedDrill, error) {
	t, err := a.trial(r)
	if err != nil {
		return api.PlayedDrill{}, err
	}
	text := chi.URLParam(r, "effect")
	n, err := strconv.Atoi(text)
	if err != nil {
		return api.PlayedDrill{}, &problems.Refusal{
			Status: http.StatusNotFound,
			Detail: fmt.Sprintf("the effects of an audit are numbered from 1; there is no effect %.40q", text),
		}
	}
	version, err := a.find(r, t.Contract, t.Version)
	if err != nil {
		return api.PlayedDrill{}, err
	}
	return a.trials.PlayEffect(r.Context(), t, version, n)
}

// versionOfPath returns the stored version that the path of a call names.
func (a *API) versionOfPath(r *http.Request) (store.Version, error) {
	n, err := numbered(chi.URLParam(r, "version"))
	if err != nil {
		return store.Version{}, err
	}
	return a.find(r, chi.URLParam(r, "name"), n)
}

// listTrials lists the trials of a version, newest first.
func (a *API) listTrials(r *http.Request) ([]api.Trial, error) {
	version, err := a.versionOfPath(r)
	if err != nil {
		return nil, err
	}
	return a.trials.List(r.Context(), version.Contract, version.Version)
}

// trial returns one trial with its result.
func (a *API) trial(r *http.Request) (api.Trial, error) {
	text := chi.URLParam(r, "trial")
	id, err := strconv.ParseInt(text, 10, 64)
	if err == nil {
		var t api.Trial
		t, err = a.trials.Get(r.Context(), id)
		if err == nil {
			return t, nil
		}
		if !errors.Is(err, store.ErrNotFound) {
			return api.Trial{}, err
		}
	}
	return api.Trial{}, &problems.Refusal{
		Status: http.StatusNotFound,
		Detail: fmt.Sprintf("there is no trial %.40s", text),
	}
}

// stopTrial ends a trial that runs; what it found so far is kept.
func (a *API) stopTrial(r *http.Request) (api.Trial, error) {
	t, err := a.trial(r)
	if err != nil || t.Over() {
		return t, err
	}
	a.trials.End(t.ID)
	return t, nil
}
