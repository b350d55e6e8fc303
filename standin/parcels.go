package standin

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
)

func (s *Slipway) listParcels(w http.ResponseWriter, r *http.Request) {
	const size = 20
	s.mu.Lock()
	defer s.mu.Unlock()
	if number := r.URL.Query().Get("number"); number != "" {
		some := slices.DeleteFunc(slices.Clone(s.parcels), func(p shopParcel) bool { return p.Number != number })
		s.answer(w, map[string]any{"parcels": some, "cursor": "", "has_more": false})
		return
	}
	from, err := strconv.Atoi(cmp.Or(r.URL.Query().Get("cursor"), "0"))
	if err != nil || from < 0 || from > len(s.parcels) {
		s.fail(w, http.StatusUnprocessableEntity, "bad_cursor", "cursor is not one that Slipway gave.")
		return
	}
	to := min(from+size, len(s.parcels))
	s.answer(w, map[string]any{"parcels": s.parcels[from:to], "cursor": strconv.Itoa(to),
		"has_more": to < len(s.parcels)})
}

func (s *Slipway) oneParcel(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.parcels {
		if p.ID == r.PathValue("id") {
			s.answer(w, p)
			return
		}
	}
	s.fail(w, http.StatusNotFound, "not_found", "No parcel "+r.PathValue("id")+".")
}

// addParcel takes a parcel that somebody else sent for the shop; its number once.
func (s *Slipway) addParcel(w http.ResponseWriter, r *http.Request) {
	var p shopParcel
	if err := json.NewDecoder(r.Body).Decode(&p); err != nil || p.Number == "" || len(p.Contents) == 0 {
		s.fail(w, http.StatusUnprocessableEntity, "bad_parcel", "number and contents are needed.")
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if !slices.ContainsFunc(s.orders, func(o *shopOrder) bool { return o.Reference == p.Order }) {
		s.fail(w, http.StatusUnprocessableEntity, "bad_parcel", "There is no order "+p.Order+".")
		return
	}
	for _, was := range s.parcels {
		if was.Number == p.Number {
			answer(w, http.StatusConflict, "application/json", map[string]any{"error": map[string]string{"code": "taken",
				"message": "number is another parcel's.", "id": was.ID}})
			return
		}
	}
	p.ID = fmt.Sprintf("P-%d", 9000+len(s.parcels))
	s.parcels = append(s.parcels, p)
	s.answer(w, p)
}
