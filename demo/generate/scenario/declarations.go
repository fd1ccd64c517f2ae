package scenario

const stationsRulebook = `dataset: stations
title: Register of the sampling stations
reading:
  encoding: utf-8
  delimiter: ","
  dates: yyyy-MM-dd
columns:
  - {name: station, title: Code of the station, pattern: "AV-[0-9]{3}", severity: major}
  - {name: name, title: Name, required: true}
  - {name: river, title: River, required: true}
  - {name: region, title: Part of the vale, type: code, codes: regions, required: true}
  - {name: easting, type: integer, required: true, from: 400000, to: 499999}
  - {name: northing, type: integer, required: true, from: 200000, to: 399999}
  - {name: opened, title: In use since, type: date, required: true, from: 1980-01-01}
keys:
  - {id: one_station, columns: [station], reason: Results and visits are joined by it.}
code_lists:
  regions:
    - {code: UV, label: Upper vale, spellings: [Upper Vale]}
    - {code: MV, label: Middle vale, spellings: [Middle Vale]}
    - {code: LV, label: Lower vale, spellings: [Lower Vale]}
pass_mark: 95
`

const stationsFixes = `fix_plan: stations_clean
dataset: stations
title: One spelling per region
steps:
  - do: map_codes
    columns: [region]
    reason: The register writes regions as codes.
`

const visitsRulebook = `dataset: visits
title: Field visits
reading:
  encoding: utf-8
  delimiter: ","
  missing: [n/a]
  dates: yyyy-MM-dd
columns:
  - {name: visit, title: Number of the visit, pattern: "V[0-9]{5}", severity: major}
  - {name: station, type: code, codes: stations, required: true}
  - {name: visited, type: date, required: true, from: 2024-01-01, to: 2024-12-31}
  - {name: crew, type: code, codes: crews, required: true}
  - {name: water_temperature, title: "Water temperature, °C", type: decimal, required: true, from: -1, to: 35}
  - {name: flow, title: "Flow, m³/s", type: decimal, required: true, from: 0, to: 60}
  - {name: water, title: How the water looked, required: true}
keys:
  - {id: one_visit, columns: [visit], reason: A visit is counted once.}
equal_rows: {severity: minor}
code_lists:
  crews: [red, blue, green]
  stations:
STATIONS
measures: [flow]
pass_mark: 95
`

const visitsFixes = `fix_plan: visits_clean
dataset: visits
title: Crews levelled, one row per visit
steps:
  - do: trim
    columns: [crew]
    reason: Stray spaces around the crew.
  - do: change_case
    columns: [crew]
    to: lower
    reason: Crews are written in lower case.
  - do: keep_one
    columns: [visit]
    survivor: earliest_row
    reason: The first entry of a visit is the one written in the field.
  - do: set_missing
    columns: [water_temperature]
    where: water_temperature NOT BETWEEN -1 AND 35
    reason: The decimal point slipped and the reading cannot be told.
  - do: standard_form
    reason: Numbers have a point and dates are those of ISO 8601, so that the tables of both laboratories can be put together.
`

const resultsRulebook = `dataset: DATASET
title: Results of the TITLE laboratory
reading:
READING
  missing: [n/a, "-999"]
columns:
  - {name: sample_id, title: Number of the sample, pattern: "PREFIX-[0-9]{5}", severity: major}
  - {name: laboratory, type: code, codes: laboratories, required: true}
  - {name: station, type: code, codes: stations, required: true, severity: major}
  - {name: parameter, title: What was measured, type: code, codes: parameters, required: true}
  - {name: value, type: decimal, required: true, from: 0, to: 5000}
  - {name: unit, required: true}
  - {name: sampled, type: date, required: true, from: 2024-01-01, to: 2024-12-31}
  - {name: received, type: date, required: true}
EXTRA
  - {name: remark}
keys:
  - {id: one_result, columns: [sample_id], reason: A sample is reported once.}
equal_rows: {severity: minor, reason: The file was exported twice in part.}
code_lists:
  laboratories:
LABORATORIES
  parameters:
PARAMETERS
  stations:
STATIONS
rules:
  - id: received_after_sampled
    condition: received >= sampled
    reason: Nothing arrives before it is taken.
  - id: ph_plausible
    condition: parameter <> 'PH' OR value BETWEEN 4 AND 10
    severity: major
    reason: River water outside this is a typing slip or an accident; both need a call.
measures: [value]
pass_mark: 95
`

const resultsFixes = `fix_plan: NAME_clean
dataset: DATASET
title: What was agreed with the laboratory
steps:
  - do: set_aside
    where: sample_id = 'TOTAL'
    reason: The last line of the file is a total and no result.
  - do: trim
    columns: [laboratory, parameter, station]
    reason: Stray spaces around codes.
  - do: map_codes
    columns: [laboratory, parameter]
    reason: Other spellings of the codes in the rulebook.
  - do: remove_equal_rows
    reason: Rows that were exported twice.
  - do: keep_one
    columns: [sample_id]
    survivor: largest_value
    by: received
    reason: The laboratory sends a corrected result later; the latest counts.
  - do: set_missing
    columns: [value]
    values: ["BELOW", trace, see remark]
    reason: Below what the laboratory can measure, or not measured.
CELLS
  - do: set_aside
    where: station IN ('AV-071', 'AV-072', 'AV-073')
    reason: These stations are in no register; the laboratory is asked which were meant.
  - do: standard_form
    reason: Numbers have a point and dates are those of ISO 8601, so that the tables of both laboratories can be put together.
`

const surveyMerge = `merge: survey_results
title: Results of both laboratories, with their stations
stack: [highgarth_results, millrace_results]
origin: delivered_in
join:
  - with: stations
    match: [station]
    take: [name, river, region]
    unmatched: refuse
    repeated: refuse
`

const surveyRulebook = `dataset: survey_results
title: Results of both laboratories, with their stations
columns:
  - {name: sample_id, pattern: "(HG|MR)-[0-9]{5}", severity: major}
  - {name: laboratory, type: code, codes: laboratories, required: true}
  - {name: station, pattern: "AV-[0-9]{3}", required: true, severity: major}
  - {name: parameter, type: code, codes: parameters, required: true}
  - {name: value, type: decimal, required: true, from: 0, to: 5000}
  - {name: unit, required: true}
  - {name: sampled, type: date, required: true, from: 2024-01-01, to: 2024-12-31}
  - {name: received, type: date, required: true}
  - {name: remark}
  - {name: batch}
  - {name: name, title: Name of the station, required: true, severity: major}
  - {name: river, required: true, severity: major}
  - {name: region, required: true, severity: major}
  - {name: delivered_in, required: true}
keys:
  - {id: one_result, columns: [sample_id], reason: A sample is reported once.}
equal_rows: {severity: major}
code_lists:
  laboratories:
LABORATORIES
  parameters:
PARAMETERS
rules:
  - id: received_after_sampled
    condition: received >= sampled
    reason: Nothing arrives before it is taken.
  - id: ph_plausible
    condition: parameter <> 'PH' OR value BETWEEN 4 AND 10
    severity: major
measures: [value]
pass_mark: 95
`
