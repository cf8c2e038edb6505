package main

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	_ "github.com/go-sql-driver/mysql" // the demo's own database
)

// idle counts what an instance asks its database with nothing to do. The demo is laid out first; then a
// minute is watched from outside, by the server's own counters.
func idle(dir string) error {
	data := filepath.Join(dir, "idle")
	d, err := startDemo(data)
	if err != nil {
		return err
	}
	defer d.stop()
	db, err := openOwn(data)
	if err != nil {
		return err
	}
	defer db.Close()
	time.Sleep(20 * time.Second) // what was begun comes to its end
	per, wrote, err := watchIdle(db, time.Minute)
	if err != nil {
		return err
	}
	fmt.Println("An idle instance, the demo's, watched for a minute by its database server's counters.")
	fmt.Printf("%-44s %8s %8s\n", "", "ours", "reach")
	fmt.Printf("%-44s %8.2f %8s\n", "statements a second", per, "< 1")
	fmt.Printf("%-44s %8.2f %8s\n", "rows written a second, its beat among them", wrote, "0.5")
	return nil
}

// openOwn opens the database that a service started for itself in a data folder.
func openOwn(data string) (*sql.DB, error) {
	raw, err := os.ReadFile(filepath.Join(data, "db.json"))
	if err != nil {
		return nil, err
	}
	var at struct{ Port int }
	if err := json.Unmarshal(raw, &at); err != nil {
		return nil, err
	}
	password, err := os.ReadFile(filepath.Join(data, "db.password"))
	if err != nil {
		return nil, err
	}
	return sql.Open("mysql", fmt.Sprintf("magpie:%s@tcp(127.0.0.1:%d)/magpie", strings.TrimSpace(string(password)), at.Port))
}

// watchIdle counts statements and row writes a second.
func watchIdle(db *sql.DB, span time.Duration) (statements, writes float64, err error) {
	count := func() (asked, wrote float64, err error) {
		rows, err := db.Query(`SHOW GLOBAL STATUS WHERE Variable_name IN ('Questions', 'Com_insert', 'Com_update', 'Com_delete', 'Com_replace')`)
		if err != nil {
			return 0, 0, err
		}
		defer rows.Close()
		for rows.Next() {
			var name, value string
			if err := rows.Scan(&name, &value); err != nil {
				return 0, 0, err
			}
			n, err := strconv.ParseFloat(value, 64)
			if err != nil {
				return 0, 0, err
			}
			if name == "Questions" {
				asked = n
			} else {
				wrote += n
			}
		}
		return asked, wrote, rows.Err()
	}
	asked, wrote, err := count()
	if err != nil {
		return 0, 0, err
	}
	time.Sleep(span)
	askedThen, wroteThen, err := count()
	return (askedThen - asked - 1) / span.Seconds(), (wroteThen - wrote) / span.Seconds(), err
}
