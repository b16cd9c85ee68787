"""Member-order reconstruction: samples, evidence, hypotheses, verdict. Each stage a value that can be printed."""
