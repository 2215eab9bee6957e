import { afterEach, describe, expect, it, vi } from 'vitest'
import { Refused, Unreachable, call, whenSignedOut, withQuery } from './client'

function answering(status: number, body: string) {
  const fetch = vi.fn(async (_path: string, _options: RequestInit) => new Response(status === 204 ? null : body, { status }))
  vi.stubGlobal('fetch', fetch)
  return fetch
}

afterEach(() => {
  vi.unstubAllGlobals()
  whenSignedOut(() => {})
})

describe('call', () => {
  it('sends JSON with the session cookie and no key', async () => {
    const fetch = answering(200, '{"key":"k-1"}')
    expect(await call('POST', '/api/v1/facts', { set: [] })).toEqual({ key: 'k-1' })
    const [path, options] = fetch.mock.calls[0]!
    expect(path).toBe('/api/v1/facts')
    expect(options).toMatchObject({ method: 'POST', credentials: 'same-origin', body: '{"set":[]}' })
    expect(JSON.stringify(options.headers)).not.toContain('uthorization')
  })

  it('gives nothing for an answer without a body', async () => {
    answering(204, '')
    expect(await call('DELETE', '/api/v1/session')).toBeUndefined()
  })

  it('carries a problem, its parts and its status', async () => {
    answering(422, '{"type":"urn:ostrog:problem:invalid","title":"","status":422,"detail":"No.","errors":[{"at":"1","detail":"x"}]}')
    const error = await call('POST', '/api/v1/facts', {}).catch((cause: unknown) => cause)
    expect(error).toBeInstanceOf(Refused)
    expect([(error as Refused).status, (error as Refused).message, (error as Refused).problem.errors?.length]).toEqual([422, 'No.', 1])
  })

  it.each([
    [502, '<html>'],
    [500, ''],
  ])('says when %i has no reason to it', async (status, body) => {
    answering(status, body)
    await expect(call('GET', '/api/v1/status')).rejects.toThrow(Unreachable)
  })

  it('says when nobody answers', async () => {
    vi.stubGlobal('fetch', vi.fn().mockRejectedValue(new TypeError('failed')))
    await expect(call('GET', '/api/v1/status')).rejects.toThrow('Is it running?')
  })

  it('tells a lapsed session once, but not a wrong key at sign-in', async () => {
    const out = vi.fn()
    whenSignedOut(out)
    answering(401, '{"type":"","title":"","status":401,"detail":"The session has ended."}')
    await expect(call('GET', '/api/v1/status')).rejects.toThrow('The session has ended.')
    await expect(call('POST', '/api/v1/session', { key: 'x' })).rejects.toThrow(Refused)
    expect(out).toHaveBeenCalledTimes(1)
  })
})

it('encodes a query and leaves out what is not stated', () => {
  expect(withQuery('/a', { prefix: 'user:é &', limit: 5, after: '', role: undefined })).toBe('/a?prefix=user%3A%C3%A9+%26&limit=5')
  expect(withQuery('/a', {})).toBe('/a')
})
