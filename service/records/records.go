// Package records holds the plain records of the service, which its store keeps, its interface
// shows and its client reads. It knows nothing of any of them.
package records
