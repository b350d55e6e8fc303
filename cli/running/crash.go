package running

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
)

// crashFile is where the runtime writes the reason why a service crashed.
const crashFile = "crash.txt"

// watchCrashes has the runtime write a crash of this service into the data folder, and reports an earlier one, which
// was a mistake of ours.
func watchCrashes(data string) (last string, err error) {
	f, err := os.OpenFile(filepath.Join(data, crashFile), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, 1<<20))
	if err == nil {
		err = errors.Join(f.Truncate(0), debug.SetCrashOutput(f, debug.CrashOptions{}))
	}
	return string(b), err
}
