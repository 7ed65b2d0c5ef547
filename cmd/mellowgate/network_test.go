package main

import (
	"regexp"
	"strings"
	"sync"
	"testing"

	"mellowgate/internal/live/lab/labtest"
)

// networks are the loopback networks of the tests that run, by name.
var networks sync.Map

// network returns the loopback network of a test: the same one each time it asks.
func network(t *testing.T) string { return prefixOf(t) + "0.0/16" }

// prefixOf is the beginning of the addresses of a test: 127.N and a dot.
func prefixOf(t *testing.T) string {
	name, _, _ := strings.Cut(t.Name(), "/")
	if have, ok := networks.Load(name); ok {
		return have.(string)
	}
	prefix := strings.TrimSuffix(labtest.Network(t).Addr().String(), "0.0")
	networks.Store(name, prefix)
	t.Cleanup(func() { networks.Delete(name) })
	return prefix
}

// loopback is the beginning of a loopback address that a text was written with.
var loopback = regexp.MustCompile(`\b127\.(?:[1-9]|[1-9][0-9]|1[0-9][0-9]|2[0-4][0-9])\.`)

// here puts the network of a test in place of the loopback addresses of a text.
func here(t *testing.T, text string) string { return loopback.ReplaceAllString(text, prefixOf(t)) }
