#!/usr/bin/env python3
"""Hands each request to the next worker that answers."""
import http.server
import itertools
import sys
import urllib.request

workers = sys.argv[1:]
turn = itertools.cycle(range(len(workers)))


class Handler(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        first = next(turn)
        for i in range(len(workers)):
            worker = workers[(first + i) % len(workers)]
            try:
                with urllib.request.urlopen(f"http://{worker}:8000{self.path}", timeout=2) as answer:
                    text = answer.read()
            except OSError:
                continue
            self.send_response(200)
            self.send_header("Content-Length", str(len(text)))
            self.end_headers()
            self.wfile.write(text)
            return
        self.send_error(502, "no worker answers")


http.server.ThreadingHTTPServer(("", 80), Handler).serve_forever()
