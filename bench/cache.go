package main

func cached(*bench) ([]line, error) { return nil, nil }
