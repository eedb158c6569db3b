// Package management is the management API: one list of operations, each with who may call it, what it takes and what it
// gives. From it come the routes, the OpenAPI description and the test of roles.
package management
