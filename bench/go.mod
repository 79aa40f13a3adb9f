module tartine/bench

go 1.26.0
