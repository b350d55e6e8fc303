package service

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"time"

	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/folder"
	"koinos/load"
	"koinos/store"
)

// Folder is a watched folder: what comes into it goes through a mapping, or
// through a sequence of that name where there is no such mapping.
type Folder struct {
	Dir     string
	Mapping string
}

// folderEvery is how often a watched folder is examined.
const folderEvery = time.Second

// folders watches until ctx ends.
func (s *Service) folders(ctx context.Context) (wait func()) {
	done := make(chan struct{})
	n := len(s.cfg.Folders)
	for _, f := range s.cfg.Folders {
		w := folder.Watch{Dir: f.Dir, Mode: s.cfg.FilesMode, Load: func(ctx context.Context, file *os.File, name,
			once string) (folder.Result,
			error) {
			return s.loadFile(ctx, f, file, name, once)
		}}
		go func() {
			if err := w.Run(ctx, folderEvery, s.log); err != nil {
				s.log.Error("folder is not watched", "folder", f.Dir, "error", err)
			}
			done <- struct{}{}
		}()
	}
	return func() {
		for range n {
			<-done
		}
	}
}

// loadFile loads a file of a watched folder and waits for the end.
func (s *Service) loadFile(ctx context.Context, f Folder, file *os.File, name, once string) (r folder.Result,
	err error) {
	defer func() { // what is not the file's fault is tried again
		if store.Blocked(err) != "" {
			err = errors.Join(folder.ErrLater, err)
		}
		if errors.Is(err, store.ErrOtherUse) {
			err = errors.New("the file was changed after it had been taken and a load of it had begun; put it into the folder " +
				"once more")
		}
	}()
	ctx = context.WithValue(ctx, callerKey, caller{name: "folder " + filepath.Base(f.Dir), scopes: scopes["load"]})
	got, err := s.receive(ctx, &upload{streamed{file}, name})
	if err != nil {
		return r, err
	}
	by := callerOf(ctx).name
	var last outcome.Load
	_, err = s.store.Mapping(ctx, f.Mapping, 0)
	if errors.Is(err, store.ErrNotFound) {
		run, err := s.engine.StartRun(ctx, load.RunRequest{Document: got.Body.SHA, Sequence: f.Mapping, By: by,
			Name: once})
		if err == nil {
			run, err = s.engine.WaitRun(ctx, run.ID)
		}
		if err != nil {
			return r, err
		}
		r.Clean = run.Status == outcome.Done
		for _, l := range run.Loads {
			r.Clean = r.Clean && l.Clean()
			last = l
		}
	} else if err != nil {
		return r, err
	} else {
		if last, err = s.engine.Start(ctx, load.Request{Document: got.Body.SHA, Mapping: f.Mapping, By: by,
			Name: once}); err != nil {
			return r, err
		}
		if last, err = s.engine.UntilDone(ctx, last.ID); err != nil {
			return r, err
		}
		r.Clean = last.Clean()
	}
	r.Load, r.Ext = last.ID, ".csv"
	sets, opt, err := s.engine.Sets(ctx, last, true)
	if err != nil {
		return r, err
	}
	write := report.MarkedCSV
	if got.Body.Shape.Format == source.XLSX {
		write, r.Ext = report.MarkedWorkbook, ".xlsx"
	}
	if last.Orders > 0 {
		r.Mark = func(w io.Writer) error { return write(w, file, got.Body.Size, opt, sets) }
	}
	return r, nil
}
