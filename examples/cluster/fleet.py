"""A fleet of edges, predicted many at a time: every NAME.toml of a folder with the traffic NAME.csv beside it.

fleet.py FOLDER

Prints a line of JSON for each edge, by name: how many flows there were, and what became of them. `zarnet` must be on the path of every worker.
"""

import glob
import json
import os
import subprocess
import sys

from pyspark.sql import SparkSession


def predict(plan):
    """What the program says of one edge."""
    command = ["zarnet", "predict", plan, plan.removesuffix(".toml") + ".csv", "--format", "json"]
    told = subprocess.run(command, capture_output=True, text=True, check=False)
    # 1 is an answer too: a flow was not translated
    if told.returncode not in (0, 1):
        raise RuntimeError(f"{plan}: {told.stderr}")
    answer = json.loads(told.stdout)
    name = os.path.basename(plan).removesuffix(".toml")
    return {"edge": name, "flows": answer["flows"], "mappings": len(answer["mappings"])}


def main():
    plans = sorted(glob.glob(os.path.join(os.path.abspath(sys.argv[1]), "*.toml")))
    # what has no traffic is included by others
    plans = [plan for plan in plans if os.path.exists(plan.removesuffix(".toml") + ".csv")]
    builder = SparkSession.builder.appName("fleet").config("spark.ui.enabled", "false")
    spark = builder.master(os.environ.get("SPARK_MASTER", "local[2]")).getOrCreate()
    spark.sparkContext.setLogLevel("ERROR")
    edges = spark.sparkContext.parallelize(plans, len(plans)).map(predict).collect()
    for edge in edges:
        print(json.dumps(edge, sort_keys=True))
    spark.stop()


main()
