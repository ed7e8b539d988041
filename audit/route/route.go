// Package route holds the checks of routes where they meet tunnels.
package route
