/** A function that an expression may call: scalar, and none that changes, reaches or depends on anything but its arguments. */
export interface ScalarFunction {
  name: string;
  /** its arguments, as a person writes them */
  takes: string;
  says: string;
  /** true where its answer changes with the moment, so that a column computed by it could never be proved */
  ofTheMoment?: true;
}

function list(lines: string): ScalarFunction[] {
  return lines
    .trim()
    .split("\n")
    .map((line) => {
      const [, name = "", takes = "", says = ""] = /^\s*(\w+)\((.*?)\)\s*: (.*)$/.exec(line) ?? [];
      return { name, takes, says };
    });
}

/** PostgreSQL's scalar functions (chapter 9 of its manual) that give the same answer for the same arguments on every server. */
export const scalarFunctions: readonly ScalarFunction[] = [
  ...list(`
    abs(number): without its sign
    age(later, earlier): the time between two moments
    array_length(array, dimension): how many elements
    array_position(array, element): where an element stands, from 1
    array_to_string(array, delimiter): the elements joined
    ascii(text): the first character's number
    bit_length(text): length in bits
    btrim(text): without spaces at both ends
    cardinality(array): how many elements, in all dimensions
    ceil(number): the next whole number up
    ceiling(number): the next whole number up
    char_length(text): length in characters
    chr(number): the character of a number
    coalesce(value, default): the first that is not null
    concat(value, …): joined as text, nulls left out
    concat_ws(delimiter, value, …): joined with a delimiter, nulls left out
    convert_from(bytes, encoding): bytes as text
    convert_to(text, encoding): text as bytes
    date_part(field, moment): a part of a moment, as a number
    date_trunc(unit, moment): cut to an hour, a day, a month …
    decode(text, format): bytes from hex or base64
    div(number, number): whole part of a division
    encode(bytes, format): bytes as hex or base64
    exp(number): e to the power of
    extract(field, moment): a part of a moment
    floor(number): the next whole number down
    format(pattern, value, …): a text with values in the places of %s
    greatest(value, …): the greatest, nulls left out
    initcap(text): Every Word Capitalized
    isfinite(moment): false for infinity
    json_extract_path_text(json, key, …): a member as text
    jsonb_array_length(json): how many elements
    jsonb_extract_path_text(json, key, …): a member as text
    jsonb_typeof(json): object, array, string, number, boolean or null
    justify_days(interval): 30 days as a month
    justify_hours(interval): 24 hours as a day
    least(value, …): the least, nulls left out
    left(text, number): the first characters
    length(text): length in characters
    ln(number): natural logarithm
    log(number): logarithm to base 10
    lower(text): in small letters
    lpad(text, length, fill): filled up on the left
    ltrim(text): without spaces at the start
    make_date(year, month, day): a date from its parts
    make_interval(years, months, …): an interval from its parts
    make_time(hour, minute, second): a time from its parts
    make_timestamp(year, month, day, hour, minute, second): a moment from its parts
    md5(text): a 128-bit hash, as hex
    mod(number, number): what a division leaves
    normalize(text, form): in one Unicode normal form
    nullif(value, value): null where both are equal
    num_nonnulls(value, …): how many are not null
    num_nulls(value, …): how many are null
    octet_length(text): length in bytes
    overlay(text, part, start): a part replaced by place
    position(part, text): where a part begins, from 1
    power(number, number): to the power of
    quote_literal(text): as an SQL text
    regexp_count(text, pattern): how often a pattern occurs
    regexp_like(text, pattern): true where a pattern occurs
    regexp_replace(text, pattern, by, flags): a pattern replaced
    regexp_substr(text, pattern): the part that a pattern finds
    repeat(text, number): several times over
    replace(text, part, by): every occurrence replaced
    reverse(text): from the end to the start
    right(text, number): the last characters
    round(number, digits): rounded, half away from zero
    rpad(text, length, fill): filled up on the right
    rtrim(text): without spaces at the end
    sha224(bytes): a 224-bit hash
    sha256(bytes): a 256-bit hash
    sha384(bytes): a 384-bit hash
    sha512(bytes): a 512-bit hash
    sign(number): -1, 0 or 1
    split_part(text, delimiter, number): the nth part
    sqrt(number): square root
    starts_with(text, part): true where it begins so
    string_to_array(text, delimiter): the parts as an array
    strpos(text, part): where a part begins, from 1
    substr(text, start, length): a part by place
    substring(text, start, length): a part by place
    timezone(zone, moment): a moment in a zone
    to_char(value, format): as text in a format
    to_date(text, format): a date in a given format
    to_hex(number): as hex
    to_number(text, format): a number in a given format
    to_timestamp(text, format): a moment in a given format
    translate(text, from, to): characters replaced one by one
    trim(text): without spaces at both ends
    trunc(number, digits): cut towards zero
    upper(text): in capitals`),
  { name: "now", takes: "", says: "the moment of the run", ofTheMoment: true },
];

/** Functions that PostgreSQL's grammar calls under other names (`a LIKE b ESCAPE c`, `x SIMILAR TO y`). */
export const grammarFunctions = ["like_escape", "similar_to_escape", "is_normalized", "similar_escape"];
