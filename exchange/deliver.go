package exchange

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"koinos/api"
	"koinos/store"
)

// deliver puts the stored bytes into the partner's folder. Without folders they wait to be fetched over the API. Even
// if it is interrupted, the partner sees the file once: it is written under a hidden name, then noted as sent, and only
// then gets its final name. If the service ends in between, reveal does the renaming.
func (x *Exchange) deliver(ctx context.Context, i *api.Interchange, by string) error {
	name, hidden := "", ""
	if x.dir != "" {
		dir := filepath.Join(x.dir, i.Partner, "out")
		if err := x.mode.Folder(dir); err != nil {
			return err
		}
		name, hidden = filepath.Join(dir, i.Name), filepath.Join(dir, hiddenName(i))
		f, err := x.store.OpenFile(i.Document)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := x.mode.Write(hidden, func(w io.Writer) error {
			_, err := io.Copy(w, f)
			return err
		}); err != nil {
			return err
		}
	}
	state := i.State
	if state == api.StateReady {
		state = api.StateSent
	}
	if i.Answers != 0 && state == api.StateSent {
		state = api.StateDone // nobody acknowledges an acknowledgement
	}
	err := x.store.Write(ctx, func(t *store.Tx) error {
		return errors.Join(t.SentSets(i.ID), t.Departed(i.ID, by, x.now()), t.SetInterchange(i.ID, state, x.now(),
			time.Time{}))
	})
	if err != nil || name == "" {
		return err
	}
	if err := os.Rename(hidden, name); err != nil && !errors.Is(err, fs.ErrNotExist) { // else reveal was first
		return errors.Join(err, x.store.Write(ctx, func(t *store.Tx) error {
			return errors.Join(t.NotDeparted(i.ID), t.SetInterchange(i.ID, i.State, time.Time{}, time.Time{}))
		}))
	}
	return nil
}

// hiddenPrefix begins the names of files that are not for the partner yet; the interchange's id and the final name
// follow. hiddenSuffix ends them, because some programs that fetch *.edi also take names that begin with a dot.
const (
	hiddenPrefix = ".koinos-leaving-"
	hiddenSuffix = ".part"
)

func hiddenName(i *api.Interchange) string {
	return fmt.Sprintf("%s%d-%s%s", hiddenPrefix, i.ID, i.Name, hiddenSuffix)
}

// reveal renames files that were noted as sent but did not get their final names because the service ended.
func (x *Exchange) reveal(ctx context.Context, dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		rest, ours := strings.CutPrefix(e.Name(), hiddenPrefix)
		number, name, whole := strings.Cut(strings.TrimSuffix(rest, hiddenSuffix), "-")
		id, wrong := strconv.ParseInt(number, 10, 64)
		if !ours || !whole || wrong != nil {
			continue
		}
		state, err := x.store.InterchangeState(ctx, id)
		if errors.Is(err, store.ErrNotFound) || state == api.StateReady {
			continue // it is delivered anew
		}
		if err == nil {
			err = os.Rename(filepath.Join(dir, e.Name()), filepath.Join(dir, name))
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
