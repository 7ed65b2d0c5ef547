//go:build !long

package main

// crashes is how often the service is killed; with the tag long a hundred times.
const crashes = 4
