// Command ticket-board is a small web application of the ferry operator: it shows departures and signs tickets. It takes three
// values from its environment, and knows nothing of where they come from; before the move that was the file .env.
package main

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"log"
	"net/http"
	"net/url"
	"os"
	"time"
)

var departures = []string{"07:10 North Quay", "09:40 Gull Island", "13:05 North Quay", "18:20 Lighthouse"}

func main() {
	key, token := os.Getenv("BOARD_SIGNING_KEY"), os.Getenv("BOARD_PAYMENT_TOKEN")
	database, err := url.Parse(os.Getenv("BOARD_DATABASE_URL"))
	if key == "" || token == "" || err != nil || database.Host == "" {
		log.Fatal("BOARD_SIGNING_KEY, BOARD_PAYMENT_TOKEN and BOARD_DATABASE_URL are needed")
	}
	log.Printf("departures come from %s, payments are signed by a token that begins with %.3s", database.Host, token)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /departures", func(w http.ResponseWriter, _ *http.Request) {
		for _, d := range departures {
			_, _ = fmt.Fprintln(w, d)
		}
	})
	mux.HandleFunc("GET /ticket/{seat}", func(w http.ResponseWriter, r *http.Request) {
		mac := hmac.New(sha256.New, []byte(key))
		_, _ = fmt.Fprint(mac, r.PathValue("seat"))
		_, _ = fmt.Fprintf(w, "seat %s, signed %s\n", r.PathValue("seat"), hex.EncodeToString(mac.Sum(nil))[:16])
	})
	address := os.Getenv("BOARD_LISTEN")
	if address == "" {
		address = "127.0.0.1:8090"
	}
	server := &http.Server{Addr: address, Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	log.Fatal(server.ListenAndServe())
}
