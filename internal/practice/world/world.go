package world

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"sort"
	"strconv"
	"time"
)

// Change is one thing that happens in the world of Lindental.
type Change struct {
	At     time.Time
	App    string
	Kind   string
	Key    string
	Type   string // created, updated, removed
	Record map[string]any
	Before map[string]any
	Fields map[string]any // what was set, as far as it is not the whole record
	By     string
}

// World lives through days in Lindental. The same seed and first day give the same world, day by day.
type World struct {
	rng   *rand.Rand
	base  string // where records' links lead
	zone  *time.Location
	day   time.Time // the next day to live through, at midnight
	n     int       // days lived
	count map[string]int
	state map[string]map[string]any // app/kind/key -> record
	farms []farm
	open  []*batchLife
	jobs  []string
	later []later // carried over midnight
	out   []Change
}

type farm struct {
	number int
	name   string
	valley string
	litres float64
	tour   int
}

type batchLife struct {
	key      string
	started  int
	humidity float64
	ripe     int
}

var farmNames = []string{
	"Sonnleiten", "Oberhalden", "Steinmatt", "Hinterboden", "Brunnacker", "Chalberweid", "Tannegg", "Lischen", "Rütiboden", "Äussere Matt",
	"Schattenhalb", "Gletscherblick", "Bannholz", "Wildenegg", "Arvenhof", "Zälgli", "Kilchmatt", "Dorfhalde", "Linden", "Feldmoos",
	"Egghof", "Im Rank", "Bachtelen", "Schürmatt", "Weiherhof", "Langenacker", "Moosrain", "Grabenhof", "Chratzeren", "Buechwald",
	"Unterlinden", "Sägerei", "Holzacker", "Mühleboden", "Stegmatt", "Erlengrund", "Wasserfall", "Radhof", "Untere Säge", "Kanalhaus",
	"Pappelhof", "Schleusenmatt", "Talgrund", "Mahlwiese", "Wehrhof", "Bruggmatt",
}

var contacts = []string{"Ursina Kolb", "Beat Amrein", "Lea Zumstein", "Hannes Flück", "Rita Odermatt", "Köbi Stalder", "Selina Mosimann", "Thomas Egli"}
var drivers = []string{"Jonas Rietmann", "Petra Inäbnit", "Samuel Gerber", "Noemi Caduff", "Ruedi Aeschlimann", "Fabienne Joss"}
var cheeses = []string{"Lindentaler", "Mutschli", "Bergkräuter", "Rauchmühle", "Alter Senn", "Weidekäse"}
var customers = []string{"Dorfladen Obertal", "Gasthof Bären", "Markthalle Nord", "Kantine Werk 3", "Feinkost Amsel", "Hotel Seeblick", "Schule Mühletal", "Reformhaus Linde"}
var faults = []string{"cooling unit trips its fuse", "pump leaks at the seal", "left tail light", "level sensor reads zero", "tyre worn", "hose coupling cracked", "engine warning light"}
var vehicles = []string{"Tanker 1", "Tanker 2", "Tanker 3", "Tanker 4", "Van 1", "Van 2"}

// NewWorld makes a world whose first day is the given one.
func NewWorld(seed uint64, first time.Time, base string) *World {
	y, m, d := first.Date()
	w := &World{
		rng: rand.New(rand.NewPCG(seed, 46)), base: base, zone: first.Location(),
		day: time.Date(y, m, d, 0, 0, 0, 0, first.Location()), count: map[string]int{"COL": 2000, "SAM": 700, "BAT": 310, "ORD": 4100, "JOB": 90},
		state: map[string]map[string]any{},
	}
	for i, name := range farmNames {
		valley := "Upper"
		if i >= 33 {
			valley = "Mill"
		} else if i >= 16 {
			valley = "Middle"
		}
		w.farms = append(w.farms, farm{number: i + 1, name: name, valley: valley, litres: math.Round(300 + math.Pow(w.rng.Float64(), 2)*2300), tour: i * 6 / len(farmNames)})
	}
	return w
}

func (w *World) put(at time.Time, app, kind, key, by string, fields map[string]any) {
	id := app + "/" + kind + "/" + key
	before := w.state[id]
	record := map[string]any{}
	maps.Copy(record, before)
	maps.Copy(record, fields)
	typ := "updated"
	if before == nil {
		typ = "created"
		if kind != "farms" && kind != "drivers" && kind != "customers" {
			record["link"] = w.base + "/pages/" + app + "/" + kind + "/" + key
		}
	}
	w.state[id] = record
	w.out = append(w.out, Change{At: at, App: app, Kind: kind, Key: key, Type: typ, Record: record, Before: before, Fields: fields, By: by})
}

func (w *World) next(prefix string) string {
	w.count[prefix]++
	return fmt.Sprintf("%s-%d", prefix, w.count[prefix])
}

func (w *World) minutes(base time.Time, mean float64) time.Time {
	return base.Add(time.Duration(mean * (0.4 + 1.2*w.rng.Float64()) * float64(time.Minute))).Truncate(time.Second)
}

func (w *World) at(h, m int) time.Time {
	return time.Date(w.day.Year(), w.day.Month(), w.day.Day(), h, m, 0, 0, w.zone)
}

func stamp(t time.Time) string { return t.Format(time.RFC3339) }

func round(f float64, places int) float64 {
	p := math.Pow(10, float64(places))
	return math.Round(f*p) / p
}

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

// NextDay lives through a day and gives what happened, in the order of time.
func (w *World) NextDay() []Change {
	w.out = nil
	if w.n == 0 {
		w.catchUp()
	}
	snow := w.rng.Float64() < 0.06
	w.relay()
	w.tours(snow)
	w.cellar()
	w.counter()
	w.workshop()
	sort.SliceStable(w.out, func(i, j int) bool { return w.out[i].At.Before(w.out[j].At) })
	w.n++
	w.day = w.day.AddDate(0, 0, 1)
	return w.out
}

// settle writes down what is there from the beginning.
func (w *World) catchUp() {
	at := w.at(0, 5)
	for _, f := range w.farms {
		w.put(at, "tours", "farms", strconv.Itoa(f.number), "Marit", map[string]any{
			"number": float64(f.number), "name": f.name, "valley": f.valley,
			"contact": contacts[f.number%len(contacts)], "phone": fmt.Sprintf("033 %03d %02d %02d", 400+f.number, f.number%90+10, (f.number*7)%90+10),
		})
	}
	for i, d := range drivers {
		w.put(at, "tours", "drivers", fmt.Sprintf("D%d", i+1), "Marit", map[string]any{
			"id": fmt.Sprintf("D%d", i+1), "name": d, "tour": fmt.Sprintf("Tour %d", i+1), "phone": fmt.Sprintf("079 %03d %02d %02d", 300+i*17, 20+i*3, 40+i*5),
		})
	}
	salespeople := []string{"Vera Amstad", "Lorenz Tobler", "Mirjam Kuhn"}
	for i, c := range customers {
		key := fmt.Sprintf("CUS-%d", i+1)
		w.put(at, "counter", "customers", key, "Vera", map[string]any{"id": key, "name": c, "salesperson": salespeople[i%len(salespeople)], "city": pick(w.rng, []string{"Obertal", "Mühletal", "Nordfeld"}), "email": fmt.Sprintf("einkauf%d@kunde.example", i+1), "phone": fmt.Sprintf("031 555 %02d %02d", 10+i, 30+i)})
	}
}

func (w *World) tours(snow bool) {
	labSilent := w.n == 61
	for _, f := range w.farms {
		key := w.next("COL")
		due := w.at(5, 0).Add(time.Duration(f.tour*20+f.number*4+w.rng.IntN(30)) * time.Minute)
		litres := round(f.litres*(0.8+0.4*w.rng.Float64()), 0)
		driver := drivers[f.tour]
		temp := round(3.4+w.rng.Float64()*1.8, 1)
		w.put(w.at(3, 30).Add(time.Duration(f.number)*7*time.Second), "tours", "collections", key, "planner", map[string]any{
			"id": key, "farm": float64(f.number), "farm_name": f.name, "tour": fmt.Sprintf("Tour %d", f.tour+1), "driver": driver, "due": stamp(due),
			"litres": litres, "temperature": temp, "status": "planned", "valley": f.valley, "price": round(0.78+0.05*w.rng.Float64(), 3),
		})
		leave := w.minutes(due.Add(-40*time.Minute), 20)
		w.put(leave, "tours", "collections", key, driver, map[string]any{"status": "on the way"})
		late := 0.05
		if snow && f.valley == "Upper" {
			late = 0.7
		}
		arrive := w.minutes(due, 8)
		if w.rng.Float64() < late {
			w.put(due.Add(30*time.Minute), "tours", "collections", key, "planner", map[string]any{"status": "late"})
			arrive = w.minutes(due.Add(35*time.Minute), 60)
		}
		if w.rng.Float64() < 0.02 { // a cooler that cannot make up its mind
			for i := range 3 + w.rng.IntN(6) {
				w.put(leave.Add(time.Duration(i*4+1)*time.Minute), "tours", "collections", key, "sensor", map[string]any{"temperature": round(5.6+w.rng.Float64(), 1)})
			}
		}
		if w.rng.Float64() < 0.006 {
			w.put(arrive, "tours", "collections", key, driver, map[string]any{"status": "refused", "temperature": round(8.5+2*w.rng.Float64(), 1)})
			continue
		}
		w.put(arrive, "tours", "collections", key, driver, map[string]any{"status": "collected"})
		if !labSilent && (f.number+w.n)%2 == 0 {
			w.sample(f, arrive)
		}
	}
}

func (w *World) sample(f farm, taken time.Time) {
	key := w.next("SAM")
	arrived := w.minutes(taken, 90)
	w.put(arrived, "lab", "samples", key, "lab", map[string]any{
		"id": key, "farm": float64(f.number), "farm_name": f.name, "valley": f.valley, "taken": stamp(taken), "verdict": "pending",
	})
	cells := math.Round(90000 + 320000*math.Pow(w.rng.Float64(), 3))
	verdict, inhibitor := "clear", w.rng.Float64() < 0.006
	switch {
	case inhibitor || cells > 380000:
		verdict = "blocked"
	case cells > 250000:
		verdict = "watch"
	}
	w.put(w.minutes(arrived, 70), "lab", "samples", key, "lab", map[string]any{
		"fat": round(3.6+0.9*w.rng.Float64(), 2), "protein": round(3.1+0.5*w.rng.Float64(), 2), "cells": cells, "inhibitor": inhibitor, "verdict": verdict,
	})
}

func (w *World) cellar() {
	for range 1 + w.rng.IntN(2) {
		key := w.next("BAT")
		b := &batchLife{key: key, started: w.n, humidity: 91 + 3*w.rng.Float64(), ripe: 18 + w.rng.IntN(25)}
		wheels := float64(20 + w.rng.IntN(60))
		w.put(w.at(13, 10+w.rng.IntN(40)), "cellar", "batches", key, "Senn", map[string]any{
			"id": key, "cheese": pick(w.rng, cheeses), "wheels": wheels, "started": w.day.Format("2006-01-02"), "age": 0.0,
			"humidity": round(b.humidity, 1), "value": wheels * 86, "status": "young",
		})
		w.open = append(w.open, b)
	}
	kept := w.open[:0]
	for i, b := range w.open {
		age := w.n - b.started
		for _, h := range []int{6, 18} {
			b.humidity = math.Min(97, math.Max(70, b.humidity+(w.rng.Float64()-0.52)*3))
			w.put(w.at(h, 5).Add(time.Duration(i)*11*time.Second), "cellar", "batches", b.key, "sensor", map[string]any{"humidity": round(b.humidity, 1), "age": float64(age)})
		}
		if b.humidity < 80 {
			b.humidity += 12 // somebody saw to it
		}
		at := w.minutes(w.at(9, 0), 120)
		switch {
		case age == 5:
			w.put(at, "cellar", "batches", b.key, "Senn", map[string]any{"status": "ripening"})
		case age == b.ripe:
			w.put(at, "cellar", "batches", b.key, "Senn", map[string]any{"status": "ready"})
		case age > b.ripe && w.rng.Float64() < 0.3:
			w.put(at, "cellar", "batches", b.key, "Vera", map[string]any{"status": "sold"})
			continue
		case w.rng.Float64() < 0.002:
			w.put(at, "cellar", "batches", b.key, "lab", map[string]any{"status": "blocked"})
			continue
		}
		kept = append(kept, b)
	}
	w.open = kept
}

func (w *World) counter() {
	if w.day.Weekday() == time.Sunday {
		return
	}
	n := 5 + w.rng.IntN(9)
	if w.n%23 == 11 {
		n *= 4 // a market day
	}
	for range n {
		key := w.next("ORD")
		placed := w.at(7, 0).Add(time.Duration(w.rng.IntN(600)) * time.Minute)
		var lines []any
		total := 0.0
		for range 1 + w.rng.IntN(4) {
			kilos := float64(2 + w.rng.IntN(40))
			lines = append(lines, map[string]any{"cheese": pick(w.rng, cheeses), "kilos": kilos})
			total += kilos * (17 + 9*w.rng.Float64())
		}
		currency := "CHF"
		if w.rng.Float64() < 0.2 {
			currency = "EUR"
		}
		w.put(placed, "counter", "orders", key, "shop", map[string]any{
			"id": key, "customer": pick(w.rng, customers), "lines": lines, "amount": round(total, 2), "currency": currency,
			"placed": stamp(placed), "wanted": w.day.AddDate(0, 0, 2+w.rng.IntN(8)).Format("2006-01-02"), "status": "new",
		})
		confirmed := w.minutes(placed, 40)
		w.put(confirmed, "counter", "orders", key, "Vera", map[string]any{"status": "confirmed"})
		packed := w.minutes(confirmed, 180)
		w.put(packed, "counter", "orders", key, "Köbi", map[string]any{"status": "packed"})
		end := "sent"
		if w.rng.Float64() < 0.03 {
			end = "disputed"
		}
		w.put(w.minutes(packed, 60), "counter", "orders", key, "Köbi", map[string]any{"status": end})
	}
}

func (w *World) workshop() {
	for range w.rng.IntN(3) {
		key := w.next("JOB")
		opened := w.at(6, 0).Add(time.Duration(w.rng.IntN(660)) * time.Minute)
		w.put(opened, "workshop", "jobs", key, pick(w.rng, drivers), map[string]any{
			"id": key, "vehicle": pick(w.rng, vehicles), "fault": pick(w.rng, faults), "urgency": pick(w.rng, []string{"low", "normal", "normal", "high"}),
			"opened": stamp(opened), "due": stamp(opened.AddDate(0, 0, 1+w.rng.IntN(5))), "estimate": fmt.Sprintf("PT%dM", 30+15*w.rng.IntN(12)),
			"status": "open", "assignees": []any{pick(w.rng, []string{"Sepp", "Luzia", "Toni"})},
		})
		w.jobs = append(w.jobs, key)
	}
	kept := w.jobs[:0]
	for _, key := range w.jobs {
		at := w.minutes(w.at(10, 0), 200)
		switch w.rng.IntN(4) {
		case 0:
			w.put(at, "workshop", "jobs", key, "Luzia", map[string]any{"status": "waiting for parts"})
		case 1:
			w.put(at, "workshop", "jobs", key, "Sepp", map[string]any{"status": "done"})
			continue
		}
		kept = append(kept, key)
	}
	w.jobs = kept
}
