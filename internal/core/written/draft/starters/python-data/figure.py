"""Draws the passings by hour."""

import matplotlib

matplotlib.use("agg")

import pandas as pd


def by_hour(path="data/passings.csv"):
    return pd.read_csv(path).groupby("hour")["count"].sum()


if __name__ == "__main__":
    axes = by_hour().plot.bar(title="Passings by hour")
    axes.figure.savefig("passings.png", dpi=100, metadata={"Software": None})
