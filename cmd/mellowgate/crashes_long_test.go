//go:build long

package main

// crashes is how often the service is killed.
const crashes = 100
