package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
)

// maxDefinition bounds the text of a definition, in bytes.
const maxDefinition = 4 << 20

// Handler is the API of a host (docs/standin.md).
func (h *Host) Handler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /host", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{"folder": h.folder, "traits": h.traits}, nil)
	})
	m.HandleFunc("GET /machines", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{"items": h.List()}, nil)
	})
	m.HandleFunc("GET /machines/{name}", h.acts(func(r *http.Request) (Entry, error) {
		return h.do(which(r), func(*guest) error { return nil })
	}))
	m.HandleFunc("POST /machines", h.acts(func(r *http.Request) (Entry, error) {
		text, err := io.ReadAll(io.LimitReader(r.Body, maxDefinition))
		if err != nil {
			return Entry{}, err
		}
		return h.Define(text)
	}))
	m.HandleFunc("DELETE /machines/{name}", func(w http.ResponseWriter, r *http.Request) {
		answer(w, map[string]any{}, h.Forget(which(r)))
	})
	m.HandleFunc("POST /machines/{name}/start", h.acts(func(r *http.Request) (Entry, error) {
		return h.Start(r.Context(), which(r))
	}))
	m.HandleFunc("POST /machines/{name}/shut-down", h.acts(func(r *http.Request) (Entry, error) {
		return h.ShutDown(which(r))
	}))
	m.HandleFunc("POST /machines/{name}/cut-off", h.acts(func(r *http.Request) (Entry, error) {
		return h.CutOff(which(r))
	}))
	m.HandleFunc("POST /machines/{name}/suspend", h.acts(func(r *http.Request) (Entry, error) { return h.Suspend(which(r)) }))
	m.HandleFunc("POST /machines/{name}/resume", h.acts(func(r *http.Request) (Entry, error) { return h.Resume(which(r)) }))
	m.HandleFunc("POST /machines/{name}/disks", h.acts(func(r *http.Request) (Entry, error) {
		var d machine.Disk
		if err := read(r, &d); err != nil {
			return Entry{}, err
		}
		return h.Attach(r.Context(), which(r), d)
	}))
	m.HandleFunc("DELETE /machines/{name}/disks/{slot}", h.acts(func(r *http.Request) (Entry, error) {
		return h.Detach(r.Context(), which(r), r.PathValue("slot"))
	}))
	h.handleLayers(m)
	m.HandleFunc("GET /machines/{name}/snapshots", func(w http.ResponseWriter, r *http.Request) {
		all, err := h.Snapshots(which(r))
		answer(w, map[string]any{"items": all}, err)
	})
	m.HandleFunc("POST /machines/{name}/snapshots", h.acts(func(r *http.Request) (Entry, error) {
		var given host.Taking
		if err := read(r, &given); err != nil {
			return Entry{}, err
		}
		return h.Take(r.Context(), which(r), given)
	}))
	m.HandleFunc("POST /machines/{name}/snapshots/{snapshot}/back", h.acts(func(r *http.Request) (Entry, error) {
		return h.GoBack(r.Context(), which(r), r.PathValue("snapshot"))
	}))
	m.HandleFunc("DELETE /machines/{name}/snapshots/{snapshot}", h.acts(func(r *http.Request) (Entry, error) {
		return h.Drop(which(r), r.PathValue("snapshot"))
	}))
	m.HandleFunc("GET /changes", func(w http.ResponseWriter, r *http.Request) {
		known, err := strconv.ParseInt(r.URL.Query().Get("after"), 10, 64)
		if err != nil {
			known = -1 // whoever knows none gets the present number
		}
		answer(w, map[string]int64{"number": h.Changes(r.Context(), known)}, nil)
	})
	m.HandleFunc("POST /look", func(w http.ResponseWriter, _ *http.Request) { answer(w, map[string]any{}, h.Look()) })
	m.HandleFunc("GET /machines/{name}/questions", func(w http.ResponseWriter, r *http.Request) {
		all, err := h.Questions(which(r))
		answer(w, map[string]any{"items": all}, err)
	})
	m.HandleFunc("POST /machines/{name}/answers", h.acts(func(r *http.Request) (Entry, error) {
		var given struct{ Question, Answer string }
		if err := read(r, &given); err != nil {
			return Entry{}, err
		}
		return h.Answer(r.Context(), which(r), given.Question, given.Answer)
	}))
	m.HandleFunc("GET /machines/{name}/signs", func(w http.ResponseWriter, r *http.Request) {
		seen, err := h.See(which(r))
		answer(w, seen, err)
	})
	m.HandleFunc("GET /machines/{name}/screen", func(w http.ResponseWriter, r *http.Request) {
		seen, err := h.See(which(r))
		if err != nil {
			answer(w, nil, err)
			return
		}
		w.Header().Set("Content-Type", "image/png")
		_ = drawScreen(w, seen.Console) // whoever looks has gone
	})
	return m
}

// handleLayers serves what is done with what the disks of machines are stored in.
func (h *Host) handleLayers(m *http.ServeMux) {
	if !h.traits.Layers {
		return
	}
	m.HandleFunc("GET /machines/{name}/disks/{slot}/layers", func(w http.ResponseWriter, r *http.Request) {
		files, err := h.Layers(r.Context(), which(r), r.PathValue("slot"))
		answer(w, map[string]any{"items": files}, err)
	})
	m.HandleFunc("POST /machines/{name}/save", h.acts(func(r *http.Request) (Entry, error) {
		var given layering
		if err := read(r, &given); err != nil {
			return Entry{}, err
		}
		return h.Save(which(r), given.Into)
	}))
	m.HandleFunc("POST /machines/{name}/restore", h.acts(func(r *http.Request) (Entry, error) {
		var given layering
		if err := read(r, &given); err != nil {
			return Entry{}, err
		}
		return h.Restore(r.Context(), which(r), given.From)
	}))
	halting := func(pattern string, do func(*http.Request, layering) (time.Duration, error)) {
		m.HandleFunc("POST /machines/{name}/"+pattern, func(w http.ResponseWriter, r *http.Request) {
			r = r.WithContext(context.WithoutCancel(r.Context())) // what is begun is done, also when whoever asked has gone
			var given layering
			err := read(r, &given)
			var halted time.Duration
			if err == nil {
				halted, err = do(r, given)
			}
			answer(w, map[string]int64{"halted": halted.Nanoseconds()}, err)
		})
	}
	halting("cover", func(r *http.Request, l layering) (time.Duration, error) {
		return h.Cover(r.Context(), which(r), l.Layers, l.AtRest)
	})
	halting("disks/{slot}/merge", func(r *http.Request, l layering) (time.Duration, error) {
		return h.Merge(r.Context(), which(r), r.PathValue("slot"), l.Into)
	})
	halting("disks/{slot}/fold", func(r *http.Request, l layering) (time.Duration, error) {
		return 0, h.Fold(r.Context(), which(r), r.PathValue("slot"), l.From, l.Into)
	})
	halting("disks/{slot}/mirror", func(r *http.Request, l layering) (time.Duration, error) {
		return h.Mirror(r.Context(), which(r), r.PathValue("slot"), l.To)
	})
}

// layering is what is asked to be done with layers, and with memory.
type layering struct {
	Layers     map[string]string
	AtRest     bool
	From, Into string
	To         machine.Disk
}

// read reads the body of a request.
func read(r *http.Request, into any) error {
	if err := json.NewDecoder(io.LimitReader(r.Body, maxDefinition)).Decode(into); err != nil {
		return fmt.Errorf("%w: %w", errRefused, err)
	}
	return nil
}

// which is the machine that a request is about.
func which(r *http.Request) Which {
	return Which{Name: r.PathValue("name"), UUID: r.URL.Query().Get("uuid")}
}

func (h *Host) acts(f func(*http.Request) (Entry, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		e, err := f(r.WithContext(context.WithoutCancel(r.Context()))) // what is begun is done, also when whoever asked has gone
		answer(w, e, err)
	}
}

// answer writes what was found, or why not.
func answer(w http.ResponseWriter, found any, err error) {
	status := http.StatusOK
	switch {
	case err == nil:
	case errors.Is(err, errUnknown):
		status = http.StatusNotFound
	case errors.Is(err, errState), errors.Is(err, errRefused):
		status = http.StatusConflict
	default:
		status = http.StatusInternalServerError
	}
	if err != nil {
		found = map[string]string{"why": fmt.Sprint(err)}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(found) // likewise
}
