// What the 3D view of the page is called in tests: found in the tree of its components, for the page has no hook of its own.
Object.defineProperty(window, 'vqWorld', {
  configurable: true,
  get() {
    const look = (vnode) => {
      if (!vnode || typeof vnode !== 'object') return null
      const exposed = vnode.component?.exposed?.world
      const world = exposed && (exposed.value ?? (exposed.camera ? exposed : null))
      if (world?.camera) return world
      if (vnode.component) return look(vnode.component.subTree)
      if (vnode.suspense) return look(vnode.suspense.activeBranch)
      for (const child of Array.isArray(vnode.children) ? vnode.children : []) {
        const found = look(child)
        if (found) return found
      }
      return null
    }
    return look(document.querySelector('#app')?._vnode) ?? undefined
  },
})
