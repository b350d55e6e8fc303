package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// KeepFile stores a document's bytes and returns their SHA-256 and their number. The bytes are on the disk when it
// returns; the same bytes are stored once. If accept refuses the document, it is not stored, and accept's error is
// returned.
func (s *Store) KeepFile(r io.Reader, accept func(r io.ReaderAt, size int64) error) (sha string, size int64,
	err error) {
	dir := filepath.Join(s.dir, "documents")
	tmp, err := os.CreateTemp(dir, "arriving-*")
	if err != nil {
		return "", 0, err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	hash := sha256.New()
	if size, err = io.Copy(io.MultiWriter(tmp, hash), r); err != nil {
		return "", 0, err
	}
	if err := accept(tmp, size); err != nil {
		return "", 0, err
	}
	if err := tmp.Sync(); err != nil {
		return "", 0, err
	}
	sha = hex.EncodeToString(hash.Sum(nil))
	path := s.file(sha)
	if isWhole(path, sha) && s.touch(path) { // else the same bytes, come again, fix it
		return sha, size, nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", 0, err
	}
	if err := os.Rename(tmp.Name(), path); err != nil {
		return "", 0, err
	}
	// The names must survive a power cut too, not only the bytes.
	return sha, size, errors.Join(syncDir(filepath.Dir(path)), syncDir(dir))
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

func (s *Store) file(sha string) string { return DocumentPath(s.dir, sha) }

// DocumentPath is where a data folder stores the bytes of a document.
func DocumentPath(dir, sha string) string { return filepath.Join(dir, "documents", sha[:2], sha) }

// Damaged says that the stored bytes of a document are not those that came.
type Damaged struct {
	SHA  string
	Size int64 // of what is on the disk
}

func (d *Damaged) Error() string {
	return fmt.Sprintf("the kept document %s has changed on the disk, where it has %d bytes now", d.SHA[:12], d.Size)
}

// OpenWhole is OpenFile with a check that the bytes of the document are those that came. If they are not, the error is
// Damaged.
func (s *Store) OpenWhole(sha string) (File, error) {
	f, err := s.OpenFile(sha)
	if err != nil {
		return nil, err
	}
	if err := whole(f, sha, f.Size()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func whole(r io.ReaderAt, sha string, size int64) error {
	hash := sha256.New()
	n, err := io.Copy(hash, io.NewSectionReader(r, 0, size))
	if err == nil && hex.EncodeToString(hash.Sum(nil)) != sha {
		err = &Damaged{sha, n}
	}
	return err
}

// isWhole reports whether a file exists and has the content that its name says.
func isWhole(path, sha string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	info, err := f.Stat()
	return err == nil && whole(f, sha, info.Size()) == nil
}

// File is the stored bytes of a document.
type File interface {
	io.ReadSeekCloser
	io.ReaderAt
	Size() int64
}

type onDisk struct {
	*os.File
	size int64
}

func (f onDisk) Size() int64 { return f.size }

type inRow struct{ *bytes.Reader }

func (inRow) Close() error { return nil }

// OpenFile opens the stored bytes of a document.
func (s *Store) OpenFile(sha string) (File, error) {
	if len(sha) != 2*sha256.Size {
		return nil, fmt.Errorf("document %s: %w", sha, ErrNotFound)
	}
	f, err := os.Open(s.file(sha))
	if errors.Is(err, fs.ErrNotExist) {
		var body []byte
		var gone sql.NullString
		if err := s.r.QueryRowxContext(context.Background(), `SELECT body, taken_away_at FROM documents
		  WHERE sha = ? AND (body IS NOT NULL OR taken_away_at IS NOT NULL)`, sha).Scan(&body, &gone); err != nil {
			return nil, named(err, "document %s", sha)
		}
		if gone.Valid {
			return nil, &TakenAway{"the bytes of document " + sha[:12] + " were", parseTime(gone.String)}
		}
		return inRow{bytes.NewReader(body)}, nil
	}
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return onDisk{f, info.Size()}, nil
}

// removeFile removes a document's file, unless the same bytes have arrived again or are just arriving.
func (s *Store) removeFile(sha string, since time.Time) error {
	s.filesMu.Lock()
	defer s.filesMu.Unlock()
	info, err := os.Stat(s.file(sha))
	if err == nil && info.ModTime().Before(since) {
		err = os.Remove(s.file(sha))
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// touch records that the bytes of a document have arrived again, so that nobody removes them.
func (s *Store) touch(path string) bool {
	s.filesMu.Lock()
	defer s.filesMu.Unlock()
	now := time.Now()
	return os.Chtimes(path, now, now) == nil
}
