"""Who had an external address and port at a time: the question of `zarnet whose`, as SQL over the files of a store.

whose.py STORE [ADDRESS PORT PROTOCOL TIME]

Prints a line of JSON for each translation, in the order of their beginnings. Without a question, many are read from
standard input, a line each.
"""

import glob
import ipaddress
import json
import os
import sys
import urllib.parse

from pyspark.sql import SparkSession, functions as f

PROTOCOLS = {"icmp": 1, "tcp": 6, "udp": 17}

QUERY = """
    SELECT DISTINCT device, external_port, protocol, internal, internal_upper, internal_port, name AS rule,
           CAST(unix_millis(begun) AS BIGINT) AS begun, unix_millis(begun) + lasted AS ended
    FROM translation LEFT JOIN rule USING (rule)
    WHERE external <=> {lower} AND external_upper <=> {upper}
      AND (external_port IS NULL OR {port} BETWEEN external_port AND coalesce(external_port_last, external_port))
      AND (protocol IS NULL OR protocol = {protocol})
      AND coalesce(unseen, 0) < 2
      AND unix_millis(begun) <= {at} AND (lasted IS NULL OR unix_millis(begun) + lasted >= {at})
    ORDER BY begun, internal
"""


def halves(address):
    """The two numbers of 64 bits that a file has of an address."""
    number, signed = int(address), lambda n: n - (1 << 64) if n >= 1 << 63 else n
    if address.version == 4:
        return "NULL", number
    return signed(number >> 64), signed(number & ((1 << 64) - 1))


def text(upper, lower):
    if upper is None:
        return str(ipaddress.IPv4Address(lower))
    whole = (upper & ((1 << 64) - 1)) << 64 | lower & ((1 << 64) - 1)
    return str(ipaddress.IPv6Address(whole))


def translations(spark, store):
    """All records of a store: those with both ends, and of which one end was logged so far."""
    files = spark.read.parquet(os.path.join(store, "by-external")).drop("ports", "span", "day")
    states = sorted(os.listdir(os.path.join(store, "state")))
    for path in glob.glob(glob.escape(os.path.join(store, "state", states[-1])) + "/device=*.parquet"):
        name = os.path.basename(path).removeprefix("device=").removesuffix(".parquet")
        if not name.endswith(".by-internal"):
            # the name would be taken for a folder's
            one = spark.read.option("pathGlobFilter", os.path.basename(path)).parquet(os.path.dirname(path))
            files = files.unionByName(one.withColumn("device", f.lit(urllib.parse.unquote(name))), True)
    return files


def main():
    store, asked = os.path.abspath(sys.argv[1]), sys.argv[2:]
    questions = [asked] if asked else [line.split() for line in sys.stdin]
    builder = SparkSession.builder.appName("whose").config("spark.ui.enabled", "false")
    spark = builder.master(os.environ.get("SPARK_MASTER", "local[2]")).getOrCreate()
    spark.sparkContext.setLogLevel("ERROR")
    spark.conf.set("spark.sql.session.timeZone", "UTC")
    spark.conf.set("spark.sql.shuffle.partitions", "4")
    translations(spark, store).createOrReplaceTempView("translation")
    spark.read.json(os.path.join(store, "rules.json")).createOrReplaceTempView("rule")
    for address, port, protocol, at in questions:
        upper, lower = halves(ipaddress.ip_address(address))
        at = spark.sql(f"SELECT unix_millis(TIMESTAMP '{at}')").first()[0]
        query = QUERY.format(lower=lower, upper=upper, port=int(port), protocol=PROTOCOLS[protocol], at=at)
        for row in spark.sql(query).collect():
            print(json.dumps({
                "asked": f"{address}:{port}/{protocol}", "device": row.device, "rule": row.rule,
                "internal": text(row.internal_upper, row.internal), "internal-port": row.internal_port,
                "begun": row.begun, "ended": row.ended,
            }))
    spark.stop()


main()
