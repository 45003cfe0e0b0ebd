import { defineComponent, h, onMounted } from 'vue'

/** What was called of the 3D view, which is not drawn in these tests: the name, with its part before it, and what with. */
export const called: [string, ...unknown[]][] = []

const part = (before: string, held: Record<string, unknown>) =>
  new Proxy(held, {
    get: (target, name) =>
      typeof name === 'symbol' || name in target || name.startsWith('__v_') || name === 'then'
        ? target[name as string]
        : (...args: unknown[]) => void called.push([before + name, ...args]),
    set: (target, name, value) => ((target[name as string] = value), true),
  })

export const world: Record<string, unknown> = part('', {
  cloud: null,
  nearer: {},
  shape: null,
  views: part('views.', {}),
  marks: part('marks.', {}),
})

/** Stands in for the pane of the 3D view: `vi.mock('@/components/WorldPane.vue', async () => (await import('./noWorld')).pane)`. */
export const pane = {
  default: defineComponent({
    props: { parts: Array, legend: String },
    emits: ['ready'],
    setup(props, { emit, slots }) {
      onMounted(() => emit('ready', world))
      return () => h('div', { class: 'world' }, [props.legend, slots.default?.()])
    },
  }),
}
