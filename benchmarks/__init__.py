"""Speed and cost of Yondle, measured; `make bench` prints the table of docs/benchmarks.md."""
