"""A small bench: six bays, four drives of a mebibyte for data, two in stock, all slow."""

from faithful_stripe.bench.controller import RESERVED_BYTES

SIZE = RESERVED_BYTES + (1 << 20)
TEXT = f"""
format = "faithful-stripe/bench/1"
[server]
name = "small-1"
maker = "Veskarn"
model = "T4"
serial = "T"
firmware = "1"
bays = "1-6"
panel = ["1-6"]
[[controller]]
id = "CTRL-1"
maker = "Veskarn"
model = "RC4"
serial = "L"
firmware = "1"
bays = "1-6"
rebuild_rate = 50
[model.small]
vendor = "Ulvane"
model = "Drop"
part = "D"
size = {SIZE}
media = "HDD"
protocol = "SAS"
rpm = 7200
sector = 512
rate = 1
firmware = "1"
[seated]
1 = {{ model = "small", serial = "D1" }}
2 = {{ model = "small", serial = "D2" }}
3 = {{ model = "small", serial = "D3" }}
4 = {{ model = "small", serial = "D4" }}
[[stock]]
model = "small"
serial = "S1"
[[stock]]
model = "small"
serial = "S2"
"""
