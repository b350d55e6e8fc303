package storetest

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"koinos/store"
)

// fresh is the database of a new data folder: making it takes twenty times as long as copying it.
var fresh = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "koinos-store-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	s, err := store.Open(dir)
	if err != nil {
		return nil, err
	}
	if err := s.Close(); err != nil {
		return nil, err
	}
	return os.ReadFile(filepath.Join(dir, store.DatabaseFile))
})

// Open opens a data folder, which is new where it has no database yet.
func Open(t testing.TB, dir string) *store.Store {
	t.Helper()
	file := filepath.Join(dir, store.DatabaseFile)
	if _, err := os.Stat(file); os.IsNotExist(err) {
		b, err := fresh()
		if err == nil {
			err = os.MkdirAll(dir, 0o700)
		}
		if err == nil {
			err = os.WriteFile(file, b, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	s, err := store.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return s
}
