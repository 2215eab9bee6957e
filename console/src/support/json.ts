import { isSafeNumber, LosslessNumber, parse, stringify } from 'lossless-json'

/** Enough digits in a row that a script's number might not hold them. */
const LONG = /\d[\d.]{14,}/

/** A number as a script has it, or as it was written where that would change it. */
export const numberOf = (text: string): number | LosslessNumber => (isSafeNumber(text) ? Number(text) : new LosslessNumber(text))

/**
 * What a JSON text says. The register's numbers have 64 bits, and decimals 28 digits: what a script
 * cannot hold stays as it was written, and is shown and sent back so.
 */
export const readJson = (text: string): unknown => (LONG.test(text) ? parse(text, undefined, numberOf) : JSON.parse(text))

/** The JSON text of a value, such numbers included. */
export const writeJson = (value: unknown, indent?: number): string => stringify(value, undefined, indent) ?? 'null'
