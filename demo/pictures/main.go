// Command pictures makes the pictures of the README from the demo's data:
// make screenshots. The console is drawn by Debian's chromium, commands by
// xterm under Xvfb, the marked-up workbook by LibreOffice; what is not
// installed is left out and said.
package main

import (
	"bufio"
	"context"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

const address = "127.0.0.1:8749"

// page is a picture of the console: where, and what to do before it is taken.
type page struct {
	name, path string
	dark       bool
	steps      []chromedp.Action
}

func js(script string) chromedp.Action {
	return chromedp.Tasks{chromedp.Evaluate(script, nil), chromedp.Sleep(900 * time.Millisecond)}
}

// openDocument goes to the page of a document whose name begins so.
func openDocument(name string) chromedp.Action {
	return chromedp.Tasks{js(fmt.Sprintf(`fetch('/api/v1/documents?limit=200').then(r => r.json()).then(p =>
		location = '/documents/' + p.items.find(d => d.name.startsWith('%s')).sha)`, name)), chromedp.Sleep(time.Second)}
}

var pages = []page{
	{name: "load", path: "/loads/5", steps: []chromedp.Action{js(`document.querySelectorAll('.reason')[1].click()`)}},
	{name: "load-paper-dark", path: "/loads/3", dark: true, steps: []chromedp.Action{
		js(`[...document.querySelectorAll('.reason')].at(-1).click()`),
		js(`[...document.querySelectorAll('[role=tab]')].at(-1).click()`)}},
	{name: "today", path: "/today"},
	{name: "fix", path: "/loads/9?tab=fix",
		steps: []chromedp.Action{js(`document.querySelectorAll('.near').forEach(b => b.click())`)}},
	{name: "changes", path: "/loads/8?tab=changes"},
	{name: "exchange", path: "/exchange"},
	{name: "interchange", path: "/exchange/1",
		steps: []chromedp.Action{js(`document.querySelectorAll('[role=tab]')[0].click()`), chromedp.Sleep(time.Second),
			js(`[...document.querySelectorAll('.paper .value')].find(v => v.innerText === 'Pellow ` +
				`Marina').dispatchEvent(new MouseEvent('mouseenter'))`)}},
	{name: "system", path: "/systems/slipway",
		steps: []chromedp.Action{js(`[...document.querySelectorAll('button')].find(b => b.innerText === 'order').click()`),
			chromedp.Sleep(time.Second)}},
	{name: "editor", path: "/documents",
		steps: []chromedp.Action{openDocument("ostrand"),
			js(`[...document.querySelectorAll('button')].find(b => b.innerText.startsWith('Draft')).click()`),
			chromedp.Sleep(3 * time.Second), js(`document.querySelector('[data-at="9:6"]').click()`)}},
	{name: "orders", path: "/orders?status=open,confirmed,partial&kind=sales",
		steps: []chromedp.Action{js(`[...document.querySelectorAll('tbody input')].slice(0, 3).forEach(b => b.click())`),
			js(`[...document.querySelectorAll('.many button')].find(b => b.innerText.startsWith('Hold')).click()`)}},
	{name: "sync", path: "/syncs/slipway-ledgerline"},
	{name: "held", path: "/held"},
	{name: "order", path: "/orders/331",
		steps: []chromedp.Action{js(`[...document.querySelectorAll('.lines .value.from')].find(v => v.innerText ` +
			`=== '00450').dispatchEvent(new Event('mouseenter'))`)}},
}

// terminal is a picture of commands in a terminal window.
type terminal struct{ name, commands string }

var terminals = []terminal{
	{"terminal-load", "koinos load $EXAMPLES/kestle-confirmations.csv -m kestle-open-orders --dry-run"},
	{"terminal-inspect", "koinos inspect $EXAMPLES/ostrand-week-12.xlsx; koinos order show SO-000326"},
	{"terminal-draft", "koinos mapping draft $EXAMPLES/ostrand-week-12.xlsx --lists $LISTS"},
	{"terminal-why", "koinos why SO-000326 ship_to.code; koinos why SO-000326 total; koinos load missing 3"},
	{"terminal-x12", "koinos x12 check $EXAMPLES/pellow-orders.edi; koinos exchange list --speaking; koinos exchange show 4"},
}

func main() {
	log.SetFlags(0)
	only := strings.Join(os.Args[1:], " ")
	wanted := func(name string) bool { return only == "" || strings.Contains(" "+only+" ", " "+name+" ") }
	work, err := os.MkdirTemp("", "koinos-shots-*")
	check(err)
	defer os.RemoveAll(work)
	bin, err := filepath.Abs("bin/koinos")
	check(err)
	stop := startDemo(bin, work)
	defer stop()
	out, err := filepath.Abs("docs/screenshots")
	check(err)

	ctx, cancel := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.WindowSize(1280, 800), chromedp.Flag("disable-quic", true),
		chromedp.Flag("hide-scrollbars", false))...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	ctx, cancel = context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	for _, p := range pages {
		if !wanted(p.name) {
			continue
		}
		var png []byte
		steps := append([]chromedp.Action{
			chromedp.EmulateViewport(1280, 800), chromedp.Navigate("http://" + address + "/"),
			chromedp.Evaluate(fmt.Sprintf(`localStorage.setItem('koinos.theme', '%s')`,
				map[bool]string{true: "dark", false: "light"}[p.dark]), nil),
			chromedp.Navigate("http://" + address + p.path), chromedp.Sleep(1500 * time.Millisecond),
		}, p.steps...)
		check(chromedp.Run(ctx, append(steps, chromedp.CaptureScreenshot(&png))...))
		check(os.WriteFile(filepath.Join(out, p.name+".png"), png, 0o644))
		log.Print(p.name)
	}
	if wanted("marked-workbook") {
		markedWorkbook(bin, work, filepath.Join(out, "marked-workbook.png"))
	}
	for i, t := range terminals {
		if wanted(t.name) {
			shootTerminal(bin, work, out, t, i)
		}
	}
}

// check ends the program where something failed; deferred calls still end what
// was started.
func check(err error) {
	if err != nil {
		panic(err)
	}
}

// startDemo runs the demo and waits until it has loaded everything.
func startDemo(bin, work string) (stop func()) {
	cmd := exec.Command(bin, "demo", "--listen", address, "--data", filepath.Join(work, "data"))
	pipe, err := cmd.StdoutPipe()
	check(err)
	cmd.Stderr = os.Stderr
	check(cmd.Start())
	lines := bufio.NewScanner(pipe)
	for lines.Scan() {
		if strings.HasPrefix(lines.Text(), "Ctrl-C") {
			break
		}
	}
	return func() {
		check(cmd.Process.Signal(os.Interrupt))
		_ = cmd.Wait() // it was told to end
	}
}

func have(programs ...string) bool {
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			log.Printf("left out, for want of %s", p)
			return false
		}
	}
	return true
}

// markedWorkbook prints the marked-up copy of the Ostrand sheet as a picture.
func markedWorkbook(bin, work, to string) {
	if !have("soffice", "pdftoppm") {
		return
	}
	file := filepath.Join(work, "marked.xlsx")
	run(exec.Command(bin, "load", "report", "3", "--address", "http://"+address, "--format", "marked", "--to", file))
	landscape(file)
	run(exec.Command("soffice", "--headless", "--convert-to", "pdf", "--outdir", work, file))
	run(exec.Command("pdftoppm", "-r", "150", "-png", "-f", "1", "-l", "1", "-singlefile",
		filepath.Join(work, "marked.pdf"), strings.TrimSuffix(to, ".png")))
	if have("mogrify") {
		run(exec.Command("mogrify", "-trim", "-bordercolor", "white", "-border", "16", to))
	}
	log.Print("marked-workbook")
}

func run(cmd *exec.Cmd) {
	if b, err := cmd.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%s: %v\n%s", cmd, err, b))
	}
}

func shootTerminal(bin, work, out string, t terminal, n int) {
	if !have("Xvfb", "xterm", "import") {
		return
	}
	display := fmt.Sprintf(":%d", 90+n)
	x := exec.Command("Xvfb", display, "-screen", "0", "1280x800x24")
	check(x.Start())
	defer func() { check(x.Process.Kill()); _ = x.Wait() }()
	time.Sleep(time.Second)
	term := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x49+0+0", "-bg", "#1e262d",
		"-fg", "#ece6d8",
		"-e", "bash", "-c", "clear; "+t.commands+"; sleep 30")
	term.Env = append(os.Environ(), "DISPLAY="+display, "PATH="+filepath.Dir(bin)+":"+os.Getenv("PATH"),
		"KOINOS_ADDRESS=http://"+address,
		"EXAMPLES="+filepath.Join(work, "data", "examples"), "LISTS="+
			filepath.Join(filepath.Dir(filepath.Dir(bin)), "demo", "lists"), "LANG=C.UTF-8", "TERM=xterm-256color")
	check(term.Start())
	defer func() { check(term.Process.Kill()); _ = term.Wait() }()
	time.Sleep(3 * time.Second)
	shot := exec.Command("import", "-window", "root", filepath.Join(out, t.name+".png"))
	shot.Env = append(os.Environ(), "DISPLAY="+display)
	run(shot)
	log.Print(t.name)
}
