import { describe, expect, it } from 'vitest'
import { partsChanged } from '../src/stores/project'

describe('what is asked for again', () => {
  it('is only what the change may have touched', () => {
    expect(partsChanged({ photos: 2 }, { photos: 1 })).toEqual(['project', 'photos'])
    expect(partsChanged({ layers: 1, photos: 1 }, { photos: 1 })).toEqual(['layers'])
    expect(partsChanged({ draft: 3 }, { draft: 2 })).toEqual(['layers'])
  })
  it('is nothing when nothing changed, and all when something unknown did', () => {
    expect(partsChanged({ photos: 1 }, { photos: 1 })).toEqual([])
    expect(partsChanged(undefined, undefined)).toEqual([])
    expect(partsChanged({ newer: 1 }, {})).toEqual(['layers', 'project', 'photos'])
  })
})
