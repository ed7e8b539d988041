// Package access holds the checks of what the packet filter lets through, in and out of tunnels and to the gateway.
package access
