package acceptance

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

func TestTmpShots(t *testing.T) {
	list := os.Getenv("SHOTS")
	if list == "" {
		t.Skip()
	}
	b := start(t, nil).browse()
	b.signIn("ines.carvalho", password)
	b.see("Choose a person")
	for i, line := range strings.Split(list, "\n") {
		path, js, _ := strings.Cut(line, " ### ")
		b.open(path)
		time.Sleep(1200 * time.Millisecond)
		if js != "" {
			b.do(js, chromedp.Evaluate[chromedp.Void](js))
			time.Sleep(1500 * time.Millisecond)
		}
		b.shot(fmt.Sprintf("/tmp/s%d.png", i))
		b.accessible(path)
	}
}
