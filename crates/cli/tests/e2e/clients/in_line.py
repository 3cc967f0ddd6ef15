"""Fills the line before the only lane: who waits has no answer before it is its turn, so each waits in a thread of its own."""

import threading
import urllib.request


def depth(url, key):
    """Returns how many wait."""
    call = urllib.request.Request(url + "/metrics", headers={"authorization": f"Bearer {key}"})
    lines = urllib.request.urlopen(call).read().decode().splitlines()
    return sum(float(line.split()[-1]) for line in lines if line.startswith("vastrelay_queue_depth{"))


def fill(client, request, count, url, key):
    """Sends a request so often and returns as soon as all of them wait, with the threads that do."""

    def wait_for_turn():
        stream = client.chat.completions.create(**request)
        next(iter(stream))
        stream.close()

    waiting = [threading.Thread(target=wait_for_turn) for _ in range(count)]
    for thread in waiting:
        thread.start()
    while depth(url, key) < count:
        pass
    return waiting
