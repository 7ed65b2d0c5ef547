// Package listen opens a network interface of this host for listening. What is
// heard is made sense of in core/exchange.
package listen
