import 'element-plus/es/components/notification/style/css'
import { ElButton, ElNotification } from 'element-plus'
import { h } from 'vue'

/** Long enough to read it, turn to it and press. */
const STAYS = 15_000

/** Above the ask line. */
const ABOVE = 60

/** The way to take something back, and what is then read anew. */
export interface Undo {
  back: () => Promise<unknown>
  then?: () => unknown
}

/** Says what happened, and offers to take it back where the service can. What else can is said on the page. */
export function happened(words: string, undo?: Undo) {
  const { close } = ElNotification({
    title: words,
    message: undo && h(ElButton, { size: 'small', onClick: takeBack }, () => 'Undo'),
    duration: STAYS,
    position: 'bottom-right',
    offset: ABOVE,
  })
  async function takeBack() {
    close()
    try {
      await undo!.back()
      happened(`Taken back: ${words}`)
    } catch (cause) {
      const detail = cause instanceof Error ? cause.message : String(cause)
      ElNotification({ type: 'error', title: `Not taken back: ${words}`, message: detail, duration: 0, position: 'bottom-right' })
    }
    await undo!.then?.()
  }
}
