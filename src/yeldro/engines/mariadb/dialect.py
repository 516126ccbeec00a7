"""MariaDB's dialect of SQL, and its functions without side effects."""

from __future__ import annotations

from typing import Any, ClassVar

from sqlglot import exp
from sqlglot.dialects.mysql import MySQL

from yeldro.core.database.facts import SqlDialect

DIALECT = SqlDialect(
    "mariadb",
    has_hex_texts=True,
    idle_words=frozenset({"LOW_PRIORITY", "QUICK"}),
    lenient_words=frozenset({"IGNORE"}),
)
FREE_OF_SIDE_EFFECTS = """
    addtime aes_decrypt aes_encrypt bin bit_count char_length character_length compress conv
    convert_tz crc32 curdate curtime date_format dayname elt export_set field find_in_set
    format_pico_time format from_base64 from_days from_unixtime get_format inet6_aton inet6_ntoa
    inet_aton inet_ntoa insert instr is_ipv4 is_ipv6 isnull json_compact json_contains
    json_contains_path json_depth json_detailed json_equals json_exists json_keys json_length
    json_loose json_normalize json_query json_quote json_search json_type json_unquote json_valid
    json_value last_day locate make_set makedate maketime microsecond mid minute monthname
    natural_sort_key now oct octet_length old_password ord period_add period_diff quarter quote
    regexp_instr sec_to_time second sformat sha soundex space strcmp subdate substring_index
    subtime sysdate time_format time_to_sec timediff timestamp to_base64 to_days to_seconds ucase
    uncompress unix_timestamp utc_date utc_time utc_timestamp weekday weight_string yearweek
"""


class MariaDB(MySQL):
    """MySQL's dialect of SQL, except where MariaDB differs."""

    class Generator(MySQL.Generator):  # type: ignore[misc, valid-type]
        """Write what MariaDB reads."""

        TRANSFORMS: ClassVar[dict[Any, Any]] = {
            **MySQL.Generator.TRANSFORMS,
            exp.RegexpLike: lambda self, node: self.binary(node, "REGEXP"),
        }
