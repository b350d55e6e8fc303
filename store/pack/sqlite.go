package pack

// #cgo CFLAGS: -std=gnu99 -O2
// int koinos_pack_rows(void);
import "C"

import (
	"fmt"

	_ "github.com/mattn/go-sqlite3" // SQLite itself, which rows.c calls
)

func init() {
	if rc := C.koinos_pack_rows(); rc != 0 { // only when there is no memory
		panic(fmt.Sprintf("SQLite does not take functions of our own: error %d", rc))
	}
}
