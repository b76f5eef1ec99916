"""Runs: process trees, their output and sockets, how one knows that they are up, how they are stopped."""
