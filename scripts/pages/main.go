// Command pages looks at the pages that the program makes as a browser draws them: at 400
// and 1280 pixels, light and dark, whether anything is wider than the page, and whether
// each text stands out from what is behind it (WCAG 2.2, 1.4.3: 4.5 to 1, large text 3 to
// 1). It needs Debian's chromium.
//
//	go run ./scripts/pages FILE.html...
package main

import (
	_ "embed"
	"errors"
	"fmt"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
)

//go:embed judge.js
var judge string

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(pages []string) error {
	if len(pages) == 0 {
		return errors.New("name the pages: go run ./scripts/pages FILE.html")
	}
	dir, err := os.MkdirTemp("", "pages")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	bad := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			return err
		}
		at := filepath.Join(dir, "page.html")
		with := strings.Replace(string(text), "</body>", "<script>"+judge+"</script></body>", 1)
		if err := os.WriteFile(at, []byte(with), 0o600); err != nil {
			return err
		}
		for _, width := range []string{"400", "1280"} {
			for scheme, name := range []string{"dark", "light"} {
				found, err := look(dir, at, width, scheme)
				if err != nil {
					return fmt.Errorf("%s at %s, %s: %w", page, width, name, err)
				}
				fmt.Printf("%s at %s pixels, %s: %s\n", page, width, name, found)
				if !strings.HasSuffix(found, " nothing is wrong") {
					bad++
				}
			}
		}
		if strings.Contains(string(text), `type="checkbox"`) {
			kept, err := ticks(dir, string(text))
			if err != nil {
				return fmt.Errorf("%s: %w", page, err)
			}
			fmt.Printf("%s, opened again: %s\n", page, kept)
			if kept != "1,3 stay ticked" {
				bad++
			}
		}
	}
	if bad > 0 {
		return fmt.Errorf("%d looks found something", bad)
	}
	return nil
}

// tick ticks two boxes where it finds none of them ticked, and says which it found.
const tick = `<script>(function () {
  var boxes = document.querySelectorAll("input[type=checkbox]"), ticked = [];
  boxes.forEach(function (b, i) { if (b.checked) ticked.push(i); });
  if (ticked.length === 0) { boxes[1].click(); boxes[3].click(); }
  var pre = document.createElement("pre");
  pre.id = "judged";
  pre.textContent = ticked.join(",") + " stay ticked";
  document.body.appendChild(pre);
})()</script>`

// ticks opens a page two times, ticks boxes the first time, and returns what it finds then.
func ticks(dir, text string) (string, error) {
	at := filepath.Join(dir, "ticks.html")
	if err := os.WriteFile(at, []byte(strings.Replace(text, "</body>", tick+"</body>", 1)), 0o600); err != nil {
		return "", err
	}
	if _, err := look(dir, at, "1280", 1); err != nil {
		return "", err
	}
	return look(dir, at, "1280", 1)
}

var judged = regexp.MustCompile(`(?s)<pre id="judged">(.*?)</pre>`)

// look draws a page and returns what its script has found.
func look(dir, page, width string, scheme int) (string, error) {
	out, err := exec.Command("chromium", "--headless=old", "--no-sandbox", "--disable-gpu", "--no-first-run",
		"--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-quic",
		"--user-data-dir="+filepath.Join(dir, "browser"), "--window-size="+width+",900", "--hide-scrollbars",
		fmt.Sprintf("--blink-settings=preferredColorScheme=%d", scheme), "--dump-dom", "file://"+page).Output()
	if err != nil {
		return "", err
	}
	found := judged.FindSubmatch(out)
	if found == nil {
		return "", errors.New("the page did not come to its end")
	}
	return html.UnescapeString(string(found[1])), nil
}
