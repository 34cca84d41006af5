// Package fire proves by fire that nothing is lost and nothing is told twice: its tests kill processes of Dorfbote at
// random moments, stop the database and have channels fail, all under load. How much of it is set by environment
// variables: DORFBOTE_FIRE_ROUNDS is how many kills, DORFBOTE_SOAK how many arrivals in the soak, which is left out
// without it.
package fire
