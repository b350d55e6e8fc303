package standin

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Yard is the East yard, a warehouse that exchanges files: it takes pick requests, answers
// them, and tells what it sent. See docs/standins/east-yard.md.
type Yard struct {
	folder string
	now    func() time.Time

	mu    sync.Mutex
	picks map[string]bool // that were taken, by id
	files int             // of despatches
	again map[string]int  // despatch files that were not answered yet, by id: how often they came
	text  map[string]string
}

// NewYard makes a yard over a folder, with what it needs in it.
func NewYard(folder string, now func() time.Time) (*Yard, error) {
	y := &Yard{folder: folder, now: now, picks: map[string]bool{}, again: map[string]int{}, text: map[string]string{}}
	return y, errors.Join(os.MkdirAll(filepath.Join(folder, "to-yard"), 0o755),
		os.MkdirAll(filepath.Join(folder, "from-yard"), 0o755))
}

// Run works until ctx ends, looking into its folder every so often.
func (y *Yard) Run(ctx context.Context, every time.Duration) error {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		if err := y.Work(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// pick is a request as it was read.
type pick struct {
	id, order string
	lines     [][3]string // line, article, quantity
}

// Work takes what has come.
func (y *Yard) Work() error {
	y.mu.Lock()
	defer y.mu.Unlock()
	dir := filepath.Join(y.folder, "to-yard")
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := e.Name()
		path := filepath.Join(dir, name)
		switch {
		case !e.Type().IsRegular() || strings.HasSuffix(name, ".part"):
		case strings.HasPrefix(name, "ACK-"):
			id := strings.TrimSuffix(strings.TrimPrefix(name, "ACK-"), ".txt")
			delete(y.again, id)
			delete(y.text, id)
			err = os.Remove(path)
		case strings.HasPrefix(name, "PCK-"):
			err = y.take(path)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// take reads a request, answers it, and sends the goods: what is more than five of a line
// goes in two despatches.
func (y *Yard) take(path string) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	p, why := readPick(string(b))
	word := "OK"
	if why != "" {
		word = "ER"
	}
	if err := errors.Join(y.put("from-yard", "PAK-"+p.id+".txt", fmt.Sprintf("PAK+%s+%s+%s'", p.id, word, escape(why))),
		os.Remove(path)); err != nil || why != "" || y.picks[p.id] {
		return err
	}
	y.picks[p.id] = true
	var first, second [][3]string
	for _, l := range p.lines {
		n, err := strconv.Atoi(l[2])
		if err != nil || n <= 5 {
			first = append(first, l)
			continue
		}
		first = append(first, [3]string{l[0], l[1], strconv.Itoa(n - n/2)})
		second = append(second, [3]string{l[0], l[1], strconv.Itoa(n / 2)})
	}
	for _, lines := range [][][3]string{first, second} {
		if len(lines) > 0 {
			if err := y.despatch(p.order, lines); err != nil {
				return err
			}
		}
	}
	return nil
}

// despatch writes a file that tells of one despatch.
func (y *Yard) despatch(order string, lines [][3]string) error {
	y.files++
	id, day := fmt.Sprintf("YF%04d", y.files), y.now().UTC().Format("20060102")
	var b strings.Builder
	fmt.Fprintf(&b, "YHD+%s+%s'\nDSP+D-%d+%s+%s+Fjord Freight:FF%06d'\n", id, day, 7000+y.files, escape(order), day,
		y.files)
	sum := 0
	for _, l := range lines {
		n, _ := strconv.Atoi(l[2]) // it was a number when it was read
		sum += n
		fmt.Fprintf(&b, "GDS+%s+%s+%d'\n", escape(l[0]), escape(l[1]), n)
	}
	fmt.Fprintf(&b, "YTL+%s+1+%d+%d'\n", id, len(lines)+3, sum)
	y.again[id], y.text[id] = 1, b.String()
	return y.put("from-yard", fmt.Sprintf("DSP%04d.txt", y.files), b.String())
}

// Waiting lists the despatch files that nobody answered, by id.
func (y *Yard) Waiting() []string {
	y.mu.Lock()
	defer y.mu.Unlock()
	ids := make([]string, 0, len(y.again))
	for id := range y.again {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// put writes a file so that nobody sees half of it.
func (y *Yard) put(dir, name, text string) error {
	path := filepath.Join(y.folder, dir, name)
	if err := os.WriteFile(path+".part", []byte(text), 0o644); err != nil {
		return err
	}
	return os.Rename(path+".part", path)
}

func escape(s string) string {
	return strings.NewReplacer("?", "??", "'", "?'", "+", "?+", ":", "?:").Replace(s)
}

// readPick reads a request; why says what is wrong with it.
func readPick(text string) (p pick, why string) {
	var sum, tail int
	var parts []string
	for _, segment := range segmentsOf(text) {
		switch e := segment; {
		case e[0] == "PHD" && len(e) > 1:
			p.id = e[1]
		case e[0] == "PCK" && len(e) > 1:
			p.order = e[1]
		case e[0] == "PKL" && len(e) > 3:
			p.lines = append(p.lines, [3]string{e[1], e[2], e[3]})
			n, err := strconv.Atoi(e[3])
			if err != nil || n < 1 {
				return p, "quantity " + e[3] + " is no whole number"
			}
			sum += n
		case e[0] == "PTL" && len(e) > 3:
			parts = e
			tail, _ = strconv.Atoi(e[3]) // compared below
		}
	}
	switch {
	case p.id == "" || parts == nil:
		return p, "head or tail is missing"
	case parts[1] != p.id || parts[2] != strconv.Itoa(len(p.lines)) || tail != sum:
		return p, "head and tail do not fit"
	case p.order == "" || len(p.lines) == 0:
		return p, "there is nothing to pick"
	}
	return p, ""
}

// segmentsOf cuts a file into segments of elements.
func segmentsOf(text string) (all [][]string) {
	var segment []string
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '?' && i+1 < len(text):
			i++
			b.WriteByte(text[i])
		case c == '+':
			segment = append(segment, b.String())
			b.Reset()
		case c == '\'':
			all = append(all, append(segment, b.String()))
			segment = nil
			b.Reset()
		case (c == '\n' || c == '\r') && b.Len() == 0 && segment == nil:
		default:
			b.WriteByte(c)
		}
	}
	return all
}
