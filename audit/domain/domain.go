// Package domain holds the checks of encryption domains: which packets a child protects.
package domain
