package bench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// stream sends events, one in ten of which tells somebody, and knows when each of those was sent.
type stream struct {
	address, run string
	batch        int
	client       *http.Client
	n            atomic.Int64
	accepted     atomic.Int64
	mu           sync.Mutex
	telling      map[string]time.Time
}

func newStream(address string, batch int) *stream {
	return &stream{
		address: address + "/in/bench", run: fmt.Sprintf("S%d", time.Now().UnixNano()), batch: batch, telling: map[string]time.Time{},
		client: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}, Timeout: 20 * time.Second},
	}
}

func (s *stream) send() {
	first := s.n.Add(int64(s.batch)) - int64(s.batch)
	var b bytes.Buffer
	var told []string
	b.WriteByte('[')
	for i := range s.batch {
		n := first + int64(i)
		id, status := fmt.Sprintf("%s-%d", s.run, n), "planned"
		if n%10 == 0 {
			status = "late"
			told = append(told, id)
		}
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `{"specversion":"1.0","id":%q,"source":"bench/orders","type":"dorfbote.record.created","time":%q,"subject":%q,"data":{"record":{"id":%q,"customer":"Gasthof","litres":%d,"status":%q,"valley":"Upper","driver":"Petra"}}}`,
			id, time.Now().UTC().Format(time.RFC3339Nano), id, id, 900+n%7, status)
	}
	b.WriteByte(']')
	began := time.Now()
	res, err := s.client.Post(s.address, "application/cloudevents-batch+json", &b)
	if err != nil {
		return
	}
	_, _ = io.Copy(io.Discard, res.Body)
	_ = res.Body.Close()
	if res.StatusCode != http.StatusAccepted {
		return
	}
	s.accepted.Add(int64(s.batch))
	s.mu.Lock()
	for _, id := range told {
		s.telling[id] = began
	}
	s.mu.Unlock()
}

// drained waits until everybody has been told, and gives how long each took, sorted.
func (s *stream) drained(ctx context.Context, sq *square, within time.Duration) ([]time.Duration, error) {
	end := time.Now().Add(within)
	for {
		var took []time.Duration
		sq.mu.Lock()
		for id, at := range s.telling {
			if there, ok := sq.at[id]; ok {
				took = append(took, there.Sub(at))
			}
		}
		sq.mu.Unlock()
		if len(took) == len(s.telling) {
			slices.Sort(took)
			return took, nil
		}
		if time.Now().After(end) || ctx.Err() != nil {
			return nil, fmt.Errorf("%d of %d posts never stood in the square", len(s.telling)-len(took), len(s.telling))
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// measureSustained has a server and a worker take in, decide and post at once: how many arrivals a second they keep up
// with for a while, until the last post stands in the square, and how long a post takes at half of that.
func measureSustained(ctx context.Context, o Options, database string, sq *square, plain float64) ([]Row, error) {
	serve, stopServe, err := spawn(ctx, o.Program, database, "serve")
	if err != nil {
		return nil, err
	}
	defer stopServe()
	stopWork, err := worker(ctx, o.Program, database)
	if err != nil {
		return nil, err
	}
	defer stopWork()
	var rows []Row
	rates := map[int]float64{}
	for _, batch := range []int{1, 20} {
		s := newStream(serve.address, batch)
		var wg sync.WaitGroup
		began := time.Now()
		for range o.Clients {
			wg.Go(func() {
				for time.Since(began) < 2*o.Each && ctx.Err() == nil {
					s.send()
				}
			})
		}
		wg.Wait()
		if _, err := s.drained(ctx, sq, time.Minute); err != nil {
			return nil, err
		}
		rates[batch] = float64(s.accepted.Load()) / time.Since(began).Seconds()
		rows = append(rows, Row{fmt.Sprintf("sustained: arrivals a second, one in ten told, %d to a call, until the last post", batch), num(rates[batch]),
			fmt.Sprintf("goal 3 k; plain durable inserts in this run %s", num(plain))})
	}
	for _, batch := range []int{1, 20} {
		s := newStream(serve.address, batch)
		gap := time.Duration(float64(time.Second) * float64(batch) / (rates[batch] / 2))
		var wg sync.WaitGroup
		began := time.Now()
		for at := began; time.Since(began) < 2*o.Each && ctx.Err() == nil; {
			wg.Go(func() { ; s.send() })
			at = at.Add(gap)
			time.Sleep(time.Until(at))
		}
		wg.Wait()
		took, err := s.drained(ctx, sq, time.Minute)
		if err != nil {
			return nil, err
		}
		rows = append(rows, Row{fmt.Sprintf("POST to post at half of that, %d to a call, p50 and p99", batch), ms(quantile(took, .5)) + ", " + ms(quantile(took, .99)), "goal 25 ms, 200 ms"})
	}
	return rows, nil
}
