"""The page in the visitors' hut."""

from flask import Flask, render_template

app = Flask(__name__)
counts = {"silverfin": 3, "redgill": 1}


@app.get("/health")
def health():
    return ""


@app.get("/")
def day():
    return render_template("day.html", counts=counts)
